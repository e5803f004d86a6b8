package importer

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/fxamacker/cbor/v2"

	"nexocumula/internal/gateway/payload"
)

// packs is a file of SenML: one pack after the other, each with base fields of its own.
type packs struct {
	next   func() ([]byte, error)
	inCBOR bool
	count  int
}

// longestPack bounds what one pack can take of the memory.
const longestPack = 16 << 20

func openSenMLJSON(from io.Reader, _ Columns) (Reader, error) {
	packs := &packs{}
	in := json.NewDecoder(from)
	packs.next = func() (out []byte, err error) {
		var raw json.RawMessage
		err = in.Decode(&raw)
		return raw, err
	}
	return packs, nil
}

// openSenMLCBOR reads a CBOR sequence (RFC 8742).
func openSenMLCBOR(from io.Reader, _ Columns) (Reader, error) {
	packs := &packs{inCBOR: true}
	in := cbor.NewDecoder(from)
	packs.next = func() (out []byte, err error) {
		var raw cbor.RawMessage
		err = in.Decode(&raw)
		return raw, err
	}
	return packs, nil
}

// Next returns the rows of the next pack.
func (p *packs) Next() ([]Row, error) {
	p.count++
	place := fmt.Sprintf("pack %d", p.count)
	raw, err := p.next()
	if err != nil {
		if errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, io.EOF
		}
		return nil, fmt.Errorf("%s: %w", place, err)
	}
	if len(raw) > longestPack {
		return []Row{{
			Place: place, Err: fmt.Errorf("the pack has %d bytes; at most %d are taken", len(raw), longestPack),
		}}, nil
	}
	found, err := payload.SenMLRows(raw, p.inCBOR)
	if err != nil {
		return []Row{{Place: place, Err: err}}, nil
	}
	rows := make([]Row, len(found))
	for i, r := range found {
		rows[i] = Row{
			Place:  place + ", " + r.Place,
			Series: r.Name,
			Time:   time.Unix(0, r.At),
			Value:  r.Text,
			Unit:   r.Unit,
			Err:    r.Err,
		}
		if r.Text == "" {
			rows[i].Value = strconv.FormatFloat(r.Value, 'g', -1, 64)
		}
		if r.Relative && r.Err == nil {
			rows[i].Err = errors.New("its time is counted from its arrival, and that is long ago")
		}
		rows[i] = rows[i].checked()
	}
	return rows, nil
}
