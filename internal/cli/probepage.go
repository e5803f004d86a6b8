package cli

import (
	"fmt"
	"strconv"
	"strings"

	"nexocumula/client"
)

// probePage shows the likeliest meaning of registers: a line for each value, and one for registers that say nothing.
func probePage(out client.Probed) grid {
	g := grid{columns: []column{
		{name: "address", right: true}, {name: "words"}, {name: "likely"}, {name: "first_value", right: true},
		{name: "last_value", right: true}, {name: "why"},
	}}
	words, first := out.Samples[len(out.Samples)-1].Words, out.Registers[0].Address
	for i := 0; i < len(out.Registers); {
		r := out.Registers[i]
		n := 1
		switch still := blank(out, i); {
		case r.Text != "":
			n = min((len(r.Text)+1)/2, len(out.Registers)-i)
			g.rows = append(g.rows, []cell{
				addresses(r.Address, n), plain(hexadecimal(words[i:i+n], 2)), plain("text"), plain(r.Text), plain(""),
				plain("letters"),
			})
		case still > 0:
			n = still
			g.rows = append(g.rows, []cell{
				addresses(r.Address, n), plain(hexadecimal(words[i:i+n], 2)), plain("nothing"), plain(""), plain(""),
				plain("always the same, and empty"),
			})
		case len(r.Interpretations) > 0:
			one := r.Interpretations[0]
			n = min(max(one.Words, 1), len(out.Registers)-i)
			why := strings.Join(one.Why, ", ")
			if why == "" {
				why = "the plainest way"
			}
			g.rows = append(g.rows, []cell{
				addresses(r.Address, n), plain(hexadecimal(words[i:i+n], 4)), plain(one.Says), number(one.Values[0]),
				number(one.Values[len(one.Values)-1]), plain(why),
			})
		}
		i += n
	}
	g.notes = append(g.notes,
		fmt.Sprintf("Scales and orders are told apart by what you expect: --first %d --count 2 --expect 0..20. Other ways to read each address: --most 3.",
			first))
	return g
}

// blank returns how many registers from one on are always 0, or all ones.
func blank(out client.Probed, from int) (n int) {
	for i := from; i < len(out.Registers); i++ {
		for _, s := range out.Samples {
			if w := s.Words[i]; w != 0 && w != 0xffff || w != out.Samples[0].Words[i] {
				return n
			}
		}
		n++
	}
	return n
}

func addresses(first, n int) cell {
	if n == 1 {
		return plain(strconv.Itoa(first))
	}
	return plain(fmt.Sprintf("%d to %d", first, first+n-1))
}

func hexadecimal(words []uint16, most int) string {
	var out []string
	for _, w := range words[:min(len(words), most)] {
		out = append(out, fmt.Sprintf("%04x", w))
	}
	if len(words) > most {
		out = append(out, "…")
	}
	return strings.Join(out, " ")
}
