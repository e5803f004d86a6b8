package source

import (
	"cmp"
	"fmt"
	"slices"

	"nexocumula/internal/config"
)

// The most one request may ask for (Modbus Application Protocol 1.1b3, 6.1 to 6.4).
const (
	mostRegisters = 125
	mostBits      = 2000
)

// read is one request: neighbouring registers of one table of one unit.
type read struct {
	unit      uint8
	table     config.Table
	address   uint16
	count     uint16
	registers []config.Register
}

// planReads groups registers into as few requests as there are stretches without a
// hole: devices may refuse a read that touches an address they do not have.
func planReads(registers []config.Register) []read {
	sorted := slices.Clone(registers)
	slices.SortStableFunc(sorted, func(a, b config.Register) int {
		return cmp.Or(cmp.Compare(a.Unit, b.Unit), cmp.Compare(a.Table, b.Table), cmp.Compare(a.Address, b.Address))
	})
	var reads []read
	for _, reg := range sorted {
		most := mostRegisters
		if reg.Table == config.Coil || reg.Table == config.Discrete {
			most = mostBits
		}
		end := int(reg.Address) + reg.Type.Words()
		if n := len(reads) - 1; n >= 0 {
			last := &reads[n]
			joins := last.unit == reg.Unit && last.table == reg.Table && int(reg.Address) <= int(last.address)+int(last.count)
			if joins && end-int(last.address) <= most {
				last.count = max(last.count, uint16(end-int(last.address)))
				last.registers = append(last.registers, reg)
				continue
			}
		}
		reads = append(reads, read{reg.Unit, reg.Table, reg.Address, uint16(reg.Type.Words()), []config.Register{reg}})
	}
	return reads
}

// split is a read for each of the registers.
func (r read) split() []read {
	out := make([]read, len(r.registers))
	for i, reg := range r.registers {
		out[i] = read{reg.Unit, reg.Table, reg.Address, uint16(reg.Type.Words()), []config.Register{reg}}
	}
	return out
}

// String is the place for people.
func (r read) String() string {
	if r.count == 1 {
		return fmt.Sprintf("unit %d, %s %d", r.unit, r.table, r.address)
	}
	return fmt.Sprintf("unit %d, %s %d to %d", r.unit, r.table, r.address, r.address+r.count-1)
}

func place(reg config.Register) string {
	return fmt.Sprintf("unit %d, %s %d", reg.Unit, reg.Table, reg.Address)
}
