package probe

import (
	"fmt"
	"strings"

	"nexocumula/client"
)

// Registers returns the lines of registers alone.
func Registers(unit uint8, table string, chosen []client.LinesRegister) string {
	var out strings.Builder
	for _, c := range chosen {
		fmt.Fprintf(&out, "- { unit: %d, table: %s, %s, series: %q }\n", unit, table, c.Keys, c.Series)
	}
	return out.String()
}

// Description returns a file that describes the device, for any number of the same.
func Description(table string, chosen []client.LinesRegister) string {
	var out strings.Builder
	out.WriteString("registers:\n")
	for _, c := range chosen {
		_, quantity, _ := strings.Cut(c.Series, "/")
		fmt.Fprintf(&out, "  - { table: %s, %s, series: %q }\n", table, c.Keys, quantity)
	}
	return out.String()
}

// Rules returns rules with the units and normal ranges of the chosen registers. What was expected is no limit: a value
// outside of it may be the very one that matters.
func Rules(chosen []client.LinesRegister) string {
	var out strings.Builder
	seen := map[string]bool{}
	for _, c := range chosen {
		levels := strings.Repeat("+/", 1+strings.Count(c.Series, "/"))
		line := "- { select: " + levels + c.Series[strings.LastIndexByte(c.Series, '/')+1:]
		if c.Unit != "" {
			line += fmt.Sprintf(", unit: %q", c.Unit)
		}
		if c.Low != nil || c.High != nil {
			line += fmt.Sprintf(", normal: { inner: [%s, %s] }", end(c.Low), end(c.High))
		}
		if !seen[line] && strings.Contains(line, ",") {
			seen[line] = true
			out.WriteString(line + " }\n")
		}
	}
	return out.String()
}

// end returns an end of a normal range as it is written; null is none.
func end(v *float64) string {
	if v == nil {
		return "null"
	}
	return fmt.Sprint(*v)
}
