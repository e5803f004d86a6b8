package modbus

import (
	"regexp"
	"strconv"

	"nexocumula/internal/config/shape"
)

// tableDigits are the first digits of the numbers that manuals give registers, after the tables of the first
// programmable controllers. The others count from 1 within the table.
var tableDigits = map[byte]table{'0': coil, '1': discrete, '3': input, '4': holding}

var numberForm = regexp.MustCompile(`^([0134])(\d{4}|\d{5})$`)

// number finds the table and the address that a manual's number stands for.
func (raw *registerKeys) number(at shape.Place) {
	if raw.Number == "" {
		return
	}
	if raw.Table != "" || raw.Address != nil {
		at.Key("number").Wrong("number says table and address; leave out both, or number")
	}
	found := numberForm.FindStringSubmatch(raw.Number)
	n := 0
	if found != nil {
		n, _ = strconv.Atoi(found[2])
	}
	if n < 1 || n > 1<<16 {
		at.Key("number").Wrong("%q is no number of a register; write such as \"40001\", with quotes: 0 coil, 1 discrete_input, 3 input, 4 holding, and behind it four or five digits, from 1",
			raw.Number)
		raw.Table, n = string(holding), 1
	} else {
		raw.Table = string(tableDigits[found[1][0]])
	}
	address := n - 1
	raw.Address = &address
}

// manualNumber reports whether an address looks like the number in a manual, and returns that.
func manualNumber(t table, address int) (number string, like bool) {
	for digit, of := range tableDigits {
		if first := int(digit-'0') * 10_000; of == t && digit != '0' && address > first && address < first+10_000 {
			return strconv.Itoa(address), true
		}
	}
	return "", false
}
