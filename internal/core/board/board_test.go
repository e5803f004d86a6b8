package board_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"nexocumula/internal/core/board"
	"nexocumula/internal/core/series"
)

func defined(path string, kind series.Kind, unit string) series.Definition {
	return series.Definition{Path: series.Path(path), Kind: kind, Unit: unit}
}

var beck = []series.Definition{
	defined("stony-beck/raceway-1/oxygen", series.Gauge, "mg/l"),
	defined("stony-beck/raceway-1/oxygen/quality", series.State, ""),
	defined("stony-beck/raceway-1/water_temp", series.Gauge, "Cel"),
	defined("stony-beck/raceway-1/aerator", series.State, ""),
	defined("stony-beck/raceway-2/oxygen", series.Gauge, "mg/l"),
	defined("stony-beck/pump/energy", series.Counter, "kWh"),
	defined("stony-beck-2/mast/wind_direction", series.Bearing, "deg"),
}

func TestEverySiteAndStationIsAPlace(t *testing.T) {
	assert.Equal(t, []string{
		"stony-beck", "stony-beck-2", "stony-beck-2/mast", "stony-beck/pump", "stony-beck/raceway-1",
		"stony-beck/raceway-2",
	}, board.Places(beck))
}

func TestABoardFromTheStartShowsAllOfAPlace(t *testing.T) {
	b := board.Standard("stony-beck", beck)
	assert.NoError(t, board.Check(b))
	var lanes []string
	for _, l := range b.Lanes {
		lanes = append(lanes, l.Kind+" "+l.Title+" "+strings.Join(l.Series, " "))
	}
	assert.Equal(t, []string{
		"chart Oxygen stony-beck/+/oxygen", "chart Water temp stony-beck/raceway-1/water_temp", "states Aerator stony-beck/raceway-1/aerator",
		"growth Energy stony-beck/pump/energy", "notes Notes and outages {site}", "coverage Coverage {site}/#",
	}, lanes, "the other site, whose name begins alike, is not in it; nor is a quality")
	assert.Len(t, b.Head, 4, "totals say nothing at a glance")

	b = board.Standard("stony-beck/raceway-1", beck)
	assert.NoError(t, board.Check(b))
	assert.Equal(t, "stony-beck, raceway-1", b.Title)
	assert.Len(t, b.Lanes, 5)
	for _, about := range board.Places(beck) {
		assert.NoError(t, board.Check(board.Standard(about, beck)), about)
	}
}

func TestAPlaceStandsWhereItIsAskedFor(t *testing.T) {
	for _, c := range []struct {
		text, about, want string
		ok                bool
	}{
		{"{station}/oxygen", "stony-beck/raceway-1", "stony-beck/raceway-1/oxygen", true},
		{"{site}/+/oxygen", "stony-beck/raceway-1", "stony-beck/+/oxygen", true},
		{"{site}/#", "stony-beck", "stony-beck/#", true},
		{"{station}/oxygen", "stony-beck", "", false},
		{"{site}/#", "", "", false},
		{"long-mere/mast/wind_speed", "", "long-mere/mast/wind_speed", true},
	} {
		out, ok := board.At(c.text, c.about)
		assert.Equal(t, c.ok, ok, c.text)
		if ok {
			assert.Equal(t, c.want, out)
		}
	}
}

func TestWhatIsWrongWithABoardIsSaidWithItsPlace(t *testing.T) {
	lane := func(l board.Lane) func(*board.Board) { return func(b *board.Board) { b.Lanes = []board.Lane{l} } }
	calculate := func(c board.Calculation) func(*board.Board) {
		return lane(board.Lane{Kind: board.Chart, Calculate: &c})
	}
	at := func(r board.Range) func(*board.Board) { return func(b *board.Board) { b.Range = &r } }
	for want, spoil := range map[string]func(*board.Board){
		`form: "" is not read here`:                      func(b *board.Board) { b.Form = "" },
		"title: it has none":                             func(b *board.Board) { b.Title = " " },
		"title: it has 201 characters":                   func(b *board.Board) { b.Title = strings.Repeat("ö", 201) },
		`about: "a//b": name a site`:                     func(b *board.Board) { b.About = "a//b" },
		"asks: a board that asks for a place is about":   func(b *board.Board) { b.Asks, b.About = "site", "stony-beck" },
		`asks: "town" is not known; write site, station`: func(b *board.Board) { b.Asks = "town" },
		`compare: "2d" is not known; write 1d, 1w, 1y`:   func(b *board.Board) { b.Compare = "2d" },
		"zone: \"Local\" is not known":                   func(b *board.Board) { b.Zone = "Local" },
		"width: \"5 minutes\": write a whole number":     func(b *board.Board) { b.Width = "5 minutes" },
		"hours: ":                                      func(b *board.Board) { b.Hours = "25:00-26:00" },
		"range: give last, or calendar":                at(board.Range{Last: "1d", Calendar: "today"}),
		"range: from \"2026-03-02":                     at(board.Range{From: "2026-03-02T00:00:00Z", To: "2026-03-01T00:00:00Z"}),
		"range.last: ":                                 at(board.Range{Last: "soon"}),
		`range.calendar: "last 24h" is none`:           at(board.Range{Calendar: "last 24h"}),
		`lanes[0].kind: "dial" is not known`:           lane(board.Lane{Kind: "dial"}),
		"lanes[0].series: it is empty":                 lane(board.Lane{Kind: board.States}),
		"lanes[0].series[0]: selector \"a/#/b\": #":    lane(board.Lane{Kind: board.Chart, Series: []string{"a/#/b"}}),
		`lanes[0].series[0]: "{site}/#" needs a place`: lane(board.Lane{Kind: board.Coverage, Series: []string{"{site}/#"}}),
		"lanes[0].text: it is empty":                   lane(board.Lane{Kind: board.Text}),
		`lanes[0].stat: "average" is no stat`: lane(board.Lane{
			Kind:   board.Chart,
			Series: []string{"a/b"},
			Stat:   "average",
		}),
		"lanes[0].height: 5000 is not from 40 to 1200": lane(board.Lane{
			Kind:   board.Chart,
			Series: []string{"a/b"},
			Height: 5000,
		}),
		"lanes[0].calculate.name: it has none":   calculate(board.Calculation{Formula: "a", Inputs: map[string]string{"a": "x/y"}}),
		"lanes[0].calculate.inputs: there are 0": calculate(board.Calculation{Name: "n", Formula: "1"}),
		"lanes[0].calculate.formula: ": calculate(board.Calculation{
			Name:    "n",
			Formula: "a+b",
			Inputs:  map[string]string{"a": "x/y"},
		}),
		"lanes[0].calculate.inputs.a: ": calculate(board.Calculation{
			Name:    "n",
			Formula: "a",
			Inputs:  map[string]string{"a": "x/y@middle"},
		}),
		"head[0].series: selector is empty": func(b *board.Board) { b.Head = []board.Head{{}} },
		"lanes: there are 61":               func(b *board.Board) { b.Lanes = make([]board.Lane, 61) },
	} {
		b := board.Standard("", nil)
		b.Title, b.Lanes = "Night", nil
		spoil(b)
		assert.ErrorContains(t, board.Check(b), want)
	}
}
