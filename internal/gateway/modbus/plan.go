package modbus

import (
	"cmp"
	"fmt"
	"slices"
)

// The most one request may ask for (Modbus Application Protocol 1.1b3, 6.1 to 6.4).
const (
	mostRegisters = 125
	mostBits      = 2000
)

// plan groups the registers of a device into as few requests as it will answer. What a
// device refuses is learned: how much it gives at once, and which addresses it does not
// have.
type plan struct {
	registers []register
	limits    map[tableOf]*limit
	alone     map[addressOf]bool // refused, and asked for by itself
	reads     []read
	changed   bool // something was learned since reads were made
}

type tableOf struct {
	unit  uint8
	table table
}

type addressOf struct {
	tableOf
	address uint16
}

// limit is how much a unit gives of a table at once: at least good, less than bad.
type limit struct{ good, bad int }

// read is one request: neighbouring registers of one table of one unit.
type read struct {
	unit      uint8
	table     table
	address   uint16
	count     uint16
	registers []register
}

func newPlan(registers []register) *plan {
	sorted := slices.Clone(registers)
	slices.SortStableFunc(sorted, func(a, b register) int {
		return cmp.Or(cmp.Compare(a.unit, b.unit), cmp.Compare(a.table, b.table), cmp.Compare(a.address, b.address))
	})
	p := &plan{registers: sorted, limits: map[tableOf]*limit{}, alone: map[addressOf]bool{}}
	p.make()
	return p
}

// current is the reads by what is known now.
func (p *plan) current() []read {
	if p.changed {
		p.make()
	}
	return p.reads
}

// most is how much to ask of a table at once: between what was given and what was
// refused, in the middle, so that the limit is found within a few polls.
func (p *plan) most(of tableOf) int {
	if l := p.limits[of]; l != nil {
		return max(1, (l.good+l.bad)/2)
	}
	if of.table == coil || of.table == discrete {
		return mostBits
	}
	return mostRegisters
}

// make groups registers into as few requests as there are stretches without a hole:
// devices may refuse a read that touches an address they do not have.
func (p *plan) make() {
	p.reads, p.changed = nil, false
	for _, reg := range p.registers {
		of := tableOf{reg.unit, reg.table}
		most, end := p.most(of), int(reg.address)+reg.as.words
		if n := len(p.reads) - 1; n >= 0 && !p.isAlone(reg) && !p.isAlone(p.reads[n].registers[0]) {
			last := &p.reads[n]
			joins := last.unit == reg.unit && last.table == reg.table && int(reg.address) <= int(last.address)+int(last.count)
			if joins && end-int(last.address) <= most {
				last.count = max(last.count, uint16(end-int(last.address)))
				last.registers = append(last.registers, reg)
				continue
			}
		}
		p.reads = append(p.reads, single(reg))
	}
}

func (p *plan) isAlone(reg register) bool {
	return p.alone[addressOf{tableOf{reg.unit, reg.table}, reg.address}]
}

func single(reg register) read {
	return read{reg.unit, reg.table, reg.address, uint16(reg.as.words), []register{reg}}
}

// halves are two reads of about the same number of registers.
func (r read) halves() [2]read {
	k := len(r.registers) / 2
	return [2]read{readOf(r.registers[:k]), readOf(r.registers[k:])}
}

func readOf(registers []register) read {
	r := single(registers[0])
	for _, reg := range registers {
		r.count = max(r.count, reg.address+uint16(reg.as.words)-r.address)
	}
	r.registers = registers
	return r
}

// refused learns that a read was, though all its parts were given: it was too much.
func (p *plan) tooMuch(r read, given int) {
	of := tableOf{r.unit, r.table}
	l := p.limits[of]
	if l == nil {
		l = &limit{}
		p.limits[of] = l
	}
	l.good = max(l.good, given)
	l.bad = int(r.count)
	l.good = min(l.good, l.bad-1)
	p.changed = true
}

// gave learns that a read was answered, which may have been a try how much is possible.
func (p *plan) gave(r read) {
	if l := p.limits[tableOf{r.unit, r.table}]; l != nil && int(r.count) > l.good && int(r.count) < l.bad {
		l.good = int(r.count)
		p.changed = l.bad-l.good > 1
	}
}

// missing learns that a device does not have a register: its neighbours are read without
// it. As it may come to have it, it is asked for by itself.
func (p *plan) missing(reg register) {
	at := addressOf{tableOf{reg.unit, reg.table}, reg.address}
	p.changed = p.changed || !p.alone[at]
	p.alone[at] = true
}

// String is the place for people.
func (r read) String() string {
	if r.count == 1 {
		return fmt.Sprintf("unit %d, %s %d", r.unit, r.table, r.address)
	}
	return fmt.Sprintf("unit %d, %s %d to %d", r.unit, r.table, r.address, r.address+r.count-1)
}

func place(reg register) string {
	return fmt.Sprintf("unit %d, %s %d", reg.unit, reg.table, reg.address)
}
