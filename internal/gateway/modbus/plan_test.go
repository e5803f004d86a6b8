package modbus

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func registerAt(unit uint8, table table, address uint16, as valueType) register {
	return register{unit: unit, table: table, address: address, as: as}
}

func TestNeighboursAreReadTogetherAndHolesAreNotTouched(t *testing.T) {
	var got []string
	for _, r := range newPlan([]register{
		registerAt(1, holding, 12, named("float32")),
		registerAt(1, holding, 10, named("uint32")),
		registerAt(1, holding, 0, named("uint16")),
		registerAt(1, holding, 0, named("bool")), // the same register twice
		registerAt(1, input, 0, named("uint16")),
		registerAt(2, holding, 14, named("uint16")),
		registerAt(1, coil, 0, named("bool")),
		registerAt(1, coil, 1, named("bool")),
	}).current() {
		got = append(got, r.String())
	}
	assert.Equal(t, []string{"unit 1, coil 0 to 1", "unit 1, holding 0", "unit 1, holding 10 to 13", "unit 1, input 0", "unit 2, holding 14"}, got)
}

func TestNoReadAsksForMoreThanTheProtocolAllows(t *testing.T) {
	var registers []register
	for i := range uint16(300) {
		registers = append(registers, registerAt(1, holding, 2*i, named("float32")))
	}
	total := 0
	for _, r := range newPlan(registers).current() {
		assert.LessOrEqual(t, int(r.count), 125)
		total += len(r.registers)
		for _, reg := range r.registers {
			assert.LessOrEqual(t, int(reg.address)+2, int(r.address)+int(r.count), "no value is cut in two")
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
				got[reg.address] = true
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
	var registers []register
	for i := range uint16(60) {
		registers = append(registers, registerAt(1, holding, i, named("uint16")))
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
	var registers []register
	for i := range uint16(40) {
		registers = append(registers, registerAt(1, holding, i, named("uint16")))
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

func named(name string) valueType {
	t, err := typeNamed(name)
	if err != nil {
		panic(err)
	}
	return t
}
