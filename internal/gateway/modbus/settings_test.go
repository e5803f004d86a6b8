package modbus

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config/shape"
)

// read returns the settings that a configuration makes, and what is wrong with it.
func read(t *testing.T, text string) (settings, error) {
	var raw lineKeys
	f, at, err := shape.Read("d.yaml", []byte(text), &raw)
	require.NoError(t, err)
	out := check(at, "site", raw).(settings)
	return out, f.Err()
}

func TestMistakesInRegistersAreNamed(t *testing.T) {
	for keys, wrong := range map[string]string{
		"{ table: relay, address: 0, series: a/b }":                                            `table "relay" is not known; use coil, discrete_input, holding or input`,
		"{ table: holding, address: 0, series: a/b, type: uint24 }":                            `register type "uint24" is not known; use bool, uint16`,
		"{ table: holding, series: a/b }":                                                      "counted from 0 as on the wire",
		"{ table: holding, address: 65535, series: a/b, type: uint32 }":                        "address 65535 is not possible for a uint32; use 0 to 65534",
		"{ table: holding, address: 0, series: a/b, unit: 900 }":                               "unit id 900 is not possible; use 0 to 255",
		"{ table: coil, address: 0, series: a/b, type: int16 }":                                "a coil is one bit; its type is bool",
		"{ table: holding, address: 0, series: a/b, bits: [16] }":                              "[16] are no bits of a uint16",
		"{ table: holding, address: 0, series: a/b, bits: [7, 4] }":                            "[7 4] are no bits of a uint16",
		"{ table: holding, address: 0, series: a/b, byte_order: middle }":                      `order "middle" is not known; use high_first or low_first`,
		"{ table: holding, address: 0, series: b }, { table: holding, address: 0 }":            "d.yaml:1:89: registers[1].series",
		"{ table: holding, address: 0, series: a/b, type: text }":                              "say how many registers the text takes",
		"{ table: holding, address: 0, series: a/b, type: text, length: 4, scale: 2 }":         "a text has no scale",
		"{ table: holding, address: 0, series: a/b, length: 4 }":                               "length is of a text; a uint16 takes 1 register(s)",
		"{ table: holding, address: 0, series: a/b, count: 3 }":                                "several values in a row have {n} in the name of their series",
		"{ table: holding, address: 65530, series: \"a/b{n}\", count: 9 }":                     "9 values from address 65530 on, 1 apart, end at 65538",
		"{ table: holding, address: 0, type: float32, step: 1, series: \"a/b{n}\", count: 2 }": "1 registers are not possible; use 2 to 32768",
		"{ table: holding, address: 0, series: a/b, scale_register: 1, factor_register: 2 }":   "give scale_register or factor_register, not both",
		"{ table: coil, address: 0, series: a/b, scale_register: 1 }":                          "a bool is not scaled",
		"{ table: holding, address: 0, series: a/b, group: fast }":                             `unit 1, holding 0 is of the group "fast", and there is none of that name`,
	} {
		_, err := read(t, "{ address: tcp://10.0.0.7:502, registers: ["+keys+"] }")
		assert.ErrorContains(t, err, wrong, keys)
	}
}

func TestMistakesInLinesAreNamed(t *testing.T) {
	const register = ", registers: [{ table: coil, address: 0, series: a/b }] }"
	for keys, wrong := range map[string]string{
		"{ address: 10.0.0.7:502":                                                              "is not the address of a device; write tcp://host:port",
		"{ address: tcp://10.0.0.7":                                                            "is not the address of a device",
		"{ address: rtu://ttyS0":                                                               "rtu:///dev/ttyS0 for a serial line",
		"{ address: tcp://10.0.0.7:502, baud: 9600":                                            "only a serial line has a speed",
		"{ address: tcp://10.0.0.7:502, parity: even":                                          "are of an address that begins with rtu://",
		"{ address: rtu:///dev/ttyS0, parity: both":                                            `parity "both" is not known; use even, odd or none`,
		"{ address: rtu:///dev/ttyS0, stop_bits: 3":                                            "3 stop bits are not possible; use 1 to 2",
		"{ address: tcp://10.0.0.7:502, tls: { ca: x }":                                        "tls: is for an address that begins with tls://",
		"{ address: tls://10.0.0.7:802, tls: { ca: /no/such.pem }":                             "the certificate authority cannot be read",
		"{ address: tcp://10.0.0.7:502, every: 50ms":                                           "50ms is not possible; use 100ms to 1d",
		"{ address: tcp://10.0.0.7:502, silent_share: 2":                                       "2 is not possible; use 0.001 to 1",
		"{ address: tcp://10.0.0.7:502, holes: maybe":                                          `"maybe" is not known; use learn or never`,
		"{ address: tcp://10.0.0.7:502, longest_read: 200":                                     "200 registers are not possible; use 1 to 125",
		"{ address: tcp://10.0.0.7:502, groups: [{ every: 1s }]":                               "a group needs a name",
		"{ address: tcp://10.0.0.7:502, groups: [{ name: fast }]":                              "say how often, such as 10s, or on_demand",
		"{ address: tcp://10.0.0.7:502, groups: [{ name: fast, every: 1s, phase: 1s }]":        "1s is not possible; it is less than every: 1s",
		"{ address: tcp://10.0.0.7:502, groups: [{ name: fast, every: 1s, time: begin }]":      `"begin" is not known; use answer or schedule`,
		"{ address: tcp://10.0.0.7:502, groups: [{ name: f, every: on_demand, time: answer }]": "has no schedule, and so neither phase nor time",
		"{ address: tcp://10.0.0.7:502, devices: [{ station: a, description: /no/such.yaml }]": "no such file",
	} {
		_, err := read(t, keys+register)
		assert.ErrorContains(t, err, wrong, keys)
	}
	_, err := read(t, "{ address: tcp://10.0.0.7:502 }")
	assert.ErrorContains(t, err, "nothing is to be read: list registers, or devices with a description")
}

func TestDescriptionsAreTheSameInYAMLAndInCSV(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		return filepath.Join(dir, name)
	}
	yaml := write("meter.yaml", `
device: a meter
word_order: low_first
registers:
  - { table: input, address: 0, type: float32, word_order: low_first, series: flow, not_available: [32767, -1] }
  - { table: holding, address: 4, bits: [4, 7], series: "mode" }
  - { table: holding, address: 10, count: 2, series: "t{n}", scale: 0.1 }
`)
	csv := write("meter.csv", "# a meter\ntable;address;type;word_order;series;bits;scale;not_available;count\n"+
		"input;0;float32;low_first;flow;;;32767 -1;\nholding;4;;low_first;mode;4 7;;;\n\nholding;10;;low_first;t{n};;0.1;;2\n")
	var got []settings
	for _, file := range []string{yaml, csv} {
		s, err := read(t,
			"{ address: tcp://10.0.0.7:502, devices: [{ description: "+file+", unit: 4, station: pump }, { description: "+file+", unit: 5, station: pump-2 }] }")
		require.NoError(t, err)
		require.Len(t, s.registers, 8)
		for i := range s.registers {
			s.registers[i].as.read, s.registers[i].at = nil, shape.Place{} // neither functions nor places are compared
		}
		got = append(got, s)
	}
	assert.Equal(t, got[0], got[1])
	assert.EqualValues(t, "site/pump-2/t2", got[0].registers[7].series)
	assert.EqualValues(t, 11, got[0].registers[7].address)

	wrong := write("wrong.csv", "table,address,series\nholding,0,a\n\nholdin,1,b\nholding,70000,c\n")
	_, err := read(t, "{ address: tcp://10.0.0.7:502, devices: [{ description: "+wrong+", station: pump }] }")
	assert.ErrorContains(t, err, "wrong.csv:4:")
	assert.ErrorContains(t, err, `table "holdin" is not known`)
	assert.ErrorContains(t, err, "wrong.csv:5:")
	_, err = read(t,
		"{ address: tcp://10.0.0.7:502, devices: [{ description: "+write("empty.csv", "table,address\n")+", station: pump }] }")
	assert.ErrorContains(t, err, "lists no registers")
	_, err = read(t,
		"{ address: tcp://10.0.0.7:502, devices: [{ description: "+write("odd.csv", "table,address\na,b,c\n")+", station: pump }] }")
	assert.ErrorContains(t, err, "line 2")
}
