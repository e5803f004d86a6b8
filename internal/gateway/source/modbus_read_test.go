package source

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"nexocumula/internal/config"
	"nexocumula/internal/core/decode"
)

func register(unit uint8, table config.Table, address uint16, as decode.Type) config.Register {
	return config.Register{Unit: unit, Table: table, Address: address, Type: as}
}

func TestNeighboursAreReadTogetherAndHolesAreNotTouched(t *testing.T) {
	var got []string
	for _, r := range planReads([]config.Register{
		register(1, config.Holding, 12, decode.Float32),
		register(1, config.Holding, 10, decode.Uint32),
		register(1, config.Holding, 0, decode.Uint16),
		register(1, config.Holding, 0, decode.Bool), // the same register twice
		register(1, config.Input, 0, decode.Uint16),
		register(2, config.Holding, 14, decode.Uint16),
		register(1, config.Coil, 0, decode.Bool),
		register(1, config.Coil, 1, decode.Bool),
	}) {
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
	for _, r := range planReads(registers) {
		assert.LessOrEqual(t, int(r.count), 125)
		total += len(r.registers)
		for _, reg := range r.registers {
			assert.LessOrEqual(t, int(reg.Address)+2, int(r.address)+int(r.count), "no value is cut in two")
		}
	}
	assert.Equal(t, 300, total)
}

func TestTimesOfArrivalNeverRepeat(t *testing.T) {
	var a arrival
	before := int64(0)
	for range 10_000 {
		now := a.next()
		assert.Greater(t, now, before)
		before = now
	}
}
