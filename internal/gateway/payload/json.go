package payload

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"nexocumula/internal/config/shape"
)

// jsonKeys are the keys of payloads in JSON.
type jsonKeys struct {
	Concatenated bool `yaml:"concatenated" is:"false" says:"true if a payload holds several documents one after another, such as one per line; each is a record"`
	documentKeys `yaml:",inline"`
}

func (k *jsonKeys) decoder(at shape.Place, f *fields) decoder {
	exact := k.TimeForm == "unix_ns" || k.TimeForm == "unix_us"
	if k.Concatenated {
		if k.Records != "" {
			at.Key("records").Wrong("with concatenated: each document is a record; leave records out")
		}
		k.Records = "/"
		return k.documents(at, f, "json", func(payload []byte) (any, error) { return readJSONs(payload, exact), nil })
	}
	if exact {
		return k.documents(at, f, "json", readExactJSON)
	}
	return k.documents(at, f, "json", readJSON)
}

// readJSON parses a payload. The error gives the byte at which it stopped being JSON.
func readJSON(payload []byte) (root any, err error) {
	payload = bareText(payload)
	if err = json.Unmarshal(payload, &root); err != nil {
		if other, found := withoutNaN(payload); found && json.Unmarshal(other, &root) == nil {
			return root, nil
		}
	}
	return root, inJSON(payload, err)
}

// readExactJSON keeps numbers as they are written, such as nanoseconds since 1970.
func readExactJSON(payload []byte) (root any, err error) {
	payload = bareText(payload)
	parser := json.NewDecoder(bytes.NewReader(payload))
	parser.UseNumber()
	if err = parser.Decode(&root); err == nil {
		if _, more := parser.Token(); more != io.EOF {
			return nil, fmt.Errorf("payload is not JSON: byte %d: there is more behind its end", parser.InputOffset())
		}
	} else if other, found := withoutNaN(payload); found {
		return readExactJSON(other)
	}
	return root, inJSON(payload, err)
}

// readJSONs parses documents one behind another. Behind one that cannot be read, none can: its place is taken
// by the error.
func readJSONs(payload []byte, exact bool) []any {
	payload = bareText(payload)
	if other, found := withoutNaN(payload); found {
		payload = other
	}
	parser := json.NewDecoder(bytes.NewReader(payload))
	if exact {
		parser.UseNumber()
	}
	all := []any{}
	for len(all) <= mostValues {
		var one any
		switch err := parser.Decode(&one); {
		case errors.Is(err, io.EOF):
			return all
		case err != nil:
			return append(all, inJSON(payload, err))
		}
		all = append(all, one)
	}
	return all
}

// notANumber finds, besides texts, the words that are written for numbers that are none; JSON knows no such words.
var notANumber = regexp.MustCompile(`"(?:[^"\\]|\\.)*"|[+-]?\b(?i:nan|inf|infinity)\b`)

// withoutNaN returns a payload in which such words are texts, so that only their own values cannot be read.
func withoutNaN(payload []byte) (out []byte, found bool) {
	out = notANumber.ReplaceAllFunc(payload, func(word []byte) []byte {
		if word[0] == '"' {
			return word
		}
		found = true
		return append(append([]byte{'"'}, word...), '"')
	})
	return out, found
}

func inJSON(payload []byte, err error) error {
	syntax, ok := errors.AsType[*json.SyntaxError](err)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		ok && syntax.Offset == int64(len(payload)) && strings.HasPrefix(syntax.Error(), "unexpected end"):
		return fmt.Errorf("payload is not JSON: it ends after %d bytes", len(payload))
	case ok:
		return fmt.Errorf("payload is not JSON: byte %d: %w", syntax.Offset, err)
	}
	return fmt.Errorf("payload is not JSON: %w", err)
}
