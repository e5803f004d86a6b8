package source

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"nexocumula/internal/config"
	"nexocumula/internal/core/decode"
)

func register(unit uint8, table config.Table, address uint16, as decode.Type) config.Register {
	return config.Register{Unit: unit, Table: table, Address: address, Type: as}
}

func TestNeighboursAreReadTogetherAndHolesAreNotTouched(t *testing.T) {
	var got []string
	for _, r := range newPlan([]config.Register{
		register(1, config.Holding, 12, decode.Float32),
		register(1, config.Holding, 10, decode.Uint32),
		register(1, config.Holding, 0, decode.Uint16),
		register(1, config.Holding, 0, decode.Bool), // the same register twice
		register(1, config.Input, 0, decode.Uint16),
		register(2, config.Holding, 14, decode.Uint16),
		register(1, config.Coil, 0, decode.Bool),
		register(1, config.Coil, 1, decode.Bool),
	}).current() {
		got = append(got, r.String())
	}
	assert.Equal(t, []string{"unit 1, coil 0 to 1", "unit 1, holding 0", "unit 1, holding 10 to 13", "unit 1, input 0", "unit 2, holding 14"}, got)
}

func TestNoReadAsksForMoreThanTheProtocolAllows(t *testing.T) {
	var registers []config.Register
	for i := range uint16(300) {
		registers = append(registers, register(1, config.Holding, 2*i, decode.Float32))
	}
	total := 0
	for _, r := range newPlan(registers).current() {
		assert.LessOrEqual(t, int(r.count), 125)
		total += len(r.registers)
		for _, reg := range r.registers {
			assert.LessOrEqual(t, int(reg.Address)+2, int(r.address)+int(r.count), "no value is cut in two")
		}
	}
	assert.Equal(t, 300, total)
}

// giving answers reads as a device with a limit and holes would.
func giving(most int, holes ...uint16) func(read) bool {
	return func(r read) bool {
		for _, hole := range holes {
			if hole >= r.address && hole < r.address+r.count {
				return false
			}
		}
		return int(r.count) <= most
	}
}

// poll reads everything once, as Modbus does, and is the requests that took.
func poll(p *plan, gives func(read) bool) (requests int, got map[uint16]bool) {
	got = map[uint16]bool{}
	var ask func(r read)
	ask = func(r read) {
		requests++
		if gives(r) {
			p.gave(r)
			for _, reg := range r.registers {
				got[reg.Address] = true
			}
			return
		}
		if len(r.registers) == 1 {
			p.missing(r.registers[0])
			return
		}
		before := len(p.alone)
		halves := r.halves()
		ask(halves[0])
		ask(halves[1])
		if len(p.alone) == before {
			p.tooMuch(r, int(max(halves[0].count, halves[1].count)))
		}
	}
	for _, r := range p.current() {
		ask(r)
	}
	return requests, got
}

func TestHowMuchADeviceGivesAtOnceIsLearned(t *testing.T) {
	var registers []config.Register
	for i := range uint16(60) {
		registers = append(registers, register(1, config.Holding, i, decode.Uint16))
	}
	p := newPlan(registers)
	var requests int
	for range 8 {
		var got map[uint16]bool
		requests, got = poll(p, giving(20))
		assert.Len(t, got, 60, "nothing is missed meanwhile")
	}
	assert.Equal(t, 3, requests)
}

func TestARegisterThatIsNotThereDoesNotTearItsNeighboursApart(t *testing.T) {
	var registers []config.Register
	for i := range uint16(40) {
		registers = append(registers, register(1, config.Holding, i, decode.Uint16))
	}
	p := newPlan(registers)
	requests, got := poll(p, giving(125, 17))
	assert.Len(t, got, 39)
	assert.Less(t, requests, 15)
	requests, got = poll(p, giving(125, 17))
	assert.Len(t, got, 39)
	assert.Equal(t, 3, requests, "before it, itself, after it")
}

func TestUnitsThatDoNotAnswerAreAskedMoreRarelyAndLast(t *testing.T) {
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	reads := []read{{unit: 1}, {unit: 2}, {unit: 3}}
	s := newSchedule(time.Second)
	asked := 0
	for range 600 {
		for _, r := range s.order(reads, now) {
			if r.unit == 1 {
				asked++
				s.missed(1, now)
			}
		}
		now = now.Add(time.Second)
	}
	assert.Less(t, asked, 30)
	assert.Greater(t, asked, 10, "but not forgotten")
	assert.Equal(t, []string{"unit 1 has not answered since 2026-03-01T00:00:00Z"}, s.absent())
	now = now.Add(time.Hour)
	order := s.order(reads, now)
	assert.EqualValues(t, 1, order[2].unit)
	s.answered(1)
	assert.Empty(t, s.absent())
	assert.EqualValues(t, 1, s.order(reads, now)[0].unit)
}
