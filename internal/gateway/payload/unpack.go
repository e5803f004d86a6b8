package payload

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/encoding/charmap"

	"nexocumula/internal/config/shape"
)

// MostUnpacked bounds what a compressed payload may become: 8 MiB.
const MostUnpacked = 8 << 20

// Compressions lists the ways payloads can be compressed: gzip (RFC 1952), deflate (RFC 1950, or 1951 alone)
// and zstd (RFC 8878).
var Compressions = []string{"gzip", "deflate", "zstd"}

// Unpack returns what was compressed, as long as it is no longer than most bytes.
func Unpack(compression string, packed []byte, most int) ([]byte, error) {
	reader, err := unpacker(compression, packed)
	if err != nil {
		return nil, fmt.Errorf("payload is not %s: %w", compression, err)
	}
	defer reader.Close()
	var out bytes.Buffer
	n, err := io.Copy(&out, io.LimitReader(reader, int64(most)+1))
	switch {
	case n > int64(most), errors.Is(err, zstd.ErrDecoderSizeExceeded), errors.Is(err, zstd.ErrWindowSizeExceeded):
		return nil, fmt.Errorf("payload is more than %d bytes long, once unpacked", most)
	case err != nil:
		return nil, fmt.Errorf("payload is not %s: after %d bytes of what it holds: %w", compression, n, err)
	}
	return out.Bytes(), nil
}

func unpacker(compression string, packed []byte) (io.ReadCloser, error) {
	from := bytes.NewReader(packed)
	switch compression {
	case "gzip":
		return gzip.NewReader(from)
	case "deflate":
		if r, err := zlib.NewReader(from); err == nil {
			return r, nil
		}
		return flate.NewReader(bytes.NewReader(packed)), nil
	case "zstd":
		r, err := zstd.NewReader(from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(2*MostUnpacked),
			zstd.WithDecoderMaxWindow(MostUnpacked))
		if err != nil {
			return nil, err
		}
		return r.IOReadCloser(), nil
	}
	return nil, fmt.Errorf("compression %q is not known; use %s", compression, strings.Join(Compressions, ", "))
}

// decodeText returns the bytes that a text stands for. Base64 (RFC 4648, 4 and 5) may be padded or not, hexadecimal
// digits may stand in groups.
func decodeText(encoding, text string) ([]byte, error) {
	if encoding == "hex" {
		bare := strings.TrimPrefix(strings.NewReplacer(" ", "", ":", "", "-", "", "\n", "", "\r", "").Replace(text),
			"0x")
		out, err := hex.DecodeString(bare)
		if err != nil {
			return nil, fmt.Errorf("%q is not hexadecimal: %w", clip(text), err)
		}
		return out, nil
	}
	bare := strings.TrimRight(strings.NewReplacer("-", "+", "_", "/", "\n", "", "\r", "").Replace(strings.TrimSpace(text)),
		"=")
	out, err := base64.RawStdEncoding.DecodeString(bare)
	if err != nil {
		return nil, fmt.Errorf("%q is not base64: %w", clip(text), err)
	}
	return out, nil
}

// outerKeys say how a payload is wrapped, whatever its form.
type outerKeys struct {
	Compression string `yaml:"compression" is:"none" says:"gzip, deflate or zstd; at most 8 MiB once unpacked"`
	Encoding    string `yaml:"encoding" is:"none" says:"base64 or hex, if the payload is a text that encodes bytes; it is decoded before it is unpacked"`
}

// unwrap returns the payload inside.
func (k outerKeys) unwrap(payload []byte) (out []byte, err error) {
	if out = payload; k.Encoding != "" {
		if out, err = decodeText(k.Encoding, string(bytes.TrimRight(out, "\x00"))); err != nil {
			return nil, fmt.Errorf("payload: %w", err)
		}
	}
	if k.Compression != "" {
		return Unpack(k.Compression, out, MostUnpacked)
	}
	return out, nil
}

func (k outerKeys) check(at shape.Place) {
	if k.Compression != "" && !slices.Contains(Compressions, k.Compression) {
		at.Key("compression").Wrong("%q is not known; use %s", k.Compression, strings.Join(Compressions, ", "))
	}
	checkEncoding(at.Key("encoding"), k.Encoding)
}

func checkEncoding(at shape.Place, encoding string) {
	if encoding != "" && encoding != "base64" && encoding != "hex" {
		at.Wrong("%q is not known; use base64 or hex", encoding)
	}
}

// utf8Mark may stand before a text in UTF-8.
const utf8Mark = "\xef\xbb\xbf"

// readText returns a payload that is a text, without the mark of UTF-8 before it and the zeros behind it with which C
// ends its texts. What is not UTF-8 is read as Windows-1252, which has the letters of ISO 8859-1.
func readText(payload []byte) string { return string(bareText(payload)) }

func bareText(payload []byte) []byte {
	payload = bytes.TrimRight(bytes.TrimPrefix(payload, []byte(utf8Mark)), "\x00")
	if utf8.Valid(payload) {
		return payload
	}
	if text, err := charmap.Windows1252.NewDecoder().Bytes(payload); err == nil {
		return text
	}
	return payload
}
