package plain

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNothingGivesOrdersToATerminal(t *testing.T) {
	var out strings.Builder
	w := Terminal(&out)
	text := "æøå °C 鱒\n\ttab \x1b]0;title\x07 \x1b[2J \x7f \u009b31m \u202eright \u2066x"
	for i := range len(text) { // however it is cut
		n, err := w.Write([]byte(text[i : i+1]))
		require.NoError(t, err)
		require.Equal(t, 1, n)
	}
	assert.Equal(t, "æøå °C 鱒\n\ttab ␛]0;title␇ ␛[2J ␡ \ufffd31m \ufffdright \ufffdx", out.String())
	assert.Equal(t, "a b␛c", Printable("a\nb\x1b"+"c"))
	assert.Same(t, &out, Bare(w))
	assert.Same(t, &out, Bare(&out))
	assert.Error(t, CheckText("mg/l\x1b[31m"))
	assert.Error(t, CheckText("a\nb"))
	assert.NoError(t, CheckText("m³/h, °C, 鱒"))
}

func TestASpreadsheetTakesTextsAsTexts(t *testing.T) {
	for text, cell := range map[string]string{
		"": "", "oxygen": "oxygen", "-7.5": "-7.5", "+3": "+3", "1e-300": "1e-300", "-1e6": "-1e6", "-Inf": "-Inf",
		"=1+1": "'=1+1", "+cmd|' /C calc'!A0": "'+cmd|' /C calc'!A0", "-x/y": "'-x/y", "@SUM(A1)": "'@SUM(A1)", "\t=1": "'\t=1", "a=1": "a=1",
	} {
		assert.Equal(t, cell, Cell(text))
	}
}
