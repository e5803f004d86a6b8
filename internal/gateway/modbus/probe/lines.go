package probe

import (
	"fmt"
	"strings"

	"nexocumula/client"
)

// Registers are the lines of registers alone.
func Registers(unit uint8, table string, chosen []client.LinesRegister) string {
	var out strings.Builder
	for _, c := range chosen {
		fmt.Fprintf(&out, "- { unit: %d, table: %s, %s, series: %q }\n", unit, table, c.Keys, c.Series)
	}
	return out.String()
}

// Description is a file that describes the device, for any number of the same.
func Description(table string, chosen []client.LinesRegister) string {
	var out strings.Builder
	out.WriteString("registers:\n")
	for _, c := range chosen {
		_, quantity, _ := strings.Cut(c.Series, "/")
		fmt.Fprintf(&out, "  - { table: %s, %s, series: %q }\n", table, c.Keys, quantity)
	}
	return out.String()
}

// Rules are lines that say the units of what was chosen. What was expected rejects the rest: a
// glitch is no reading.
func Rules(chosen []client.LinesRegister) string {
	var out strings.Builder
	seen := map[string]bool{}
	for _, c := range chosen {
		levels := strings.Repeat("+/", 1+strings.Count(c.Series, "/"))
		line := "- { select: " + levels + c.Series[strings.LastIndexByte(c.Series, '/')+1:]
		if c.Unit != "" {
			line += fmt.Sprintf(", unit: %q", c.Unit)
		}
		if c.Low != nil {
			line += fmt.Sprintf(", low: %v", *c.Low)
		}
		if c.High != nil {
			line += fmt.Sprintf(", high: %v", *c.High)
		}
		if !seen[line] && strings.Contains(line, ",") {
			seen[line] = true
			out.WriteString(line + " }\n")
		}
	}
	return out.String()
}
