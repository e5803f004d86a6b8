package modbus

import (
	"encoding/binary"
	"fmt"

	"nexocumula/internal/core/reading"
)

// Reread reads the registers that lie in an image: words, the high byte first, from a place on
// such as "unit 1, holding 0". What scales others must be in it.
func (m *poller) Reread(place string, raw []byte, at int64) ([]reading.Reading, []reading.Reject) {
	from := &reading.Origin{Source: m.name, Place: place, Raw: raw}
	of, err := parsePlace(place)
	if err == nil && (len(raw) == 0 || len(raw)%2 != 0) {
		err = fmt.Errorf("%d bytes are no registers, which have two each", len(raw))
	}
	if err != nil {
		return nil, []reading.Reject{from.Reject(at, err.Error())}
	}
	words := make([]uint16, len(raw)/2)
	for i := range words {
		words[i] = binary.BigEndian.Uint16(raw[2*i:])
	}
	inside := func(address uint16, n int) ([]uint16, bool) {
		first := int(address) - of.first
		if first < 0 || first+n > len(words) {
			return nil, false
		}
		return words[first:][:n], true
	}
	t := &task{}
	for _, r := range m.settings.registers {
		own, ok := inside(r.address, r.as.words)
		if !ok || r.unit != of.unit || r.table != of.table {
			continue
		}
		scale := int16(0)
		if r.scaledBy != nil {
			by, ok := inside(r.scaledBy.address, 1)
			if !ok {
				t.brought.Rejects = append(t.brought.Rejects,
					m.origin(r, own).Reject(at,
						fmt.Sprintf("%s: its scale, %s %d, is not among the registers", r.series, r.table,
							r.scaledBy.address)))
				continue
			}
			scale = int16(r.order.bits(by))
		}
		m.decode(t, r, own, scale, at)
	}
	if len(t.brought.Readings)+len(t.brought.Rejects) == 0 {
		return nil, []reading.Reject{from.Reject(at,
			fmt.Sprintf("no register of the configuration lies within %d word(s) from %s on, or it says that it is not available",
				len(words), place))}
	}
	return t.brought.Readings, t.brought.Rejects
}

func parsePlace(text string) (r request, err error) {
	var name string
	if _, err := fmt.Sscanf(text, "unit %d, %s %d", &r.unit, &name, &r.first); err != nil {
		return r, fmt.Errorf("%q is no place of registers; write one such as unit 1, holding 0", text)
	}
	switch r.table = table(name); r.table {
	case coil, discrete, input, holding:
		return r, nil
	}
	return r, fmt.Errorf("%q is no table; use coil, discrete_input, holding or input", name)
}
