package window

import (
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func moment(t *testing.T, text string) time.Time {
	t.Helper()
	at, err := time.Parse(time.RFC3339, text)
	require.NoError(t, err)
	return at
}

// cut returns the windows as "start end" in UTC, with the pieces behind it.
func cut(t *testing.T, g Grid, from, to string) (out []string) {
	t.Helper()
	windows, err := g.Cut(Range{From: moment(t, from), To: moment(t, to), Exact: true}, 10_000)
	require.NoError(t, err)
	show := func(s Span) string {
		return time.Unix(0, s.From).UTC().Format("01-02T15:04") + " " + time.Unix(0, s.To).UTC().Format("01-02T15:04")
	}
	for _, w := range windows {
		text := show(w.Span)
		for _, p := range w.Pieces {
			text += ", " + show(p)
		}
		out = append(out, text)
	}
	return out
}

func width(t *testing.T, text string) Step {
	t.Helper()
	s, err := ParseStep(text)
	require.NoError(t, err)
	assert.Equal(t, text, s.String())
	return s
}

// In Lisbon clocks go from UTC to UTC+1 on 2026-03-29 at 01:00 UTC, and back on
// 2026-10-25 at 01:00 UTC.
func TestDaysOfTwentyThreeAndTwentyFiveHours(t *testing.T) {
	lisbon := zone(t, "Europe/Lisbon")
	assert.Equal(t, []string{
		"03-28T00:00 03-29T00:00",
		"03-29T00:00 03-29T23:00", // 23 hours
		"03-29T23:00 03-30T23:00",
	}, cut(t, Grid{Zone: lisbon, Width: width(t, "1d")}, "2026-03-28T10:00:00Z", "2026-03-30T10:00:00Z"))
	assert.Equal(t, []string{
		"10-23T23:00 10-24T23:00",
		"10-24T23:00 10-26T00:00", // 25 hours
		"10-26T00:00 10-27T00:00",
	}, cut(t, Grid{Zone: lisbon, Width: width(t, "1d")}, "2026-10-24T10:00:00Z", "2026-10-26T10:00:00Z"))
	assert.Equal(t, []string{
		"03-23T00:00 03-29T23:00", // Monday to Monday, an hour short
		"03-29T23:00 04-05T23:00",
	}, cut(t, Grid{Zone: lisbon, Width: width(t, "1w")}, "2026-03-28T10:00:00Z", "2026-03-30T10:00:00Z"))
	assert.Equal(t, []string{
		"03-01T00:00 03-31T23:00",
		"03-31T23:00 04-30T23:00",
	}, cut(t, Grid{Zone: lisbon, Width: width(t, "1mo")}, "2026-03-28T10:00:00Z", "2026-04-10T10:00:00Z"))
	assert.Equal(t, []string{"01-01T00:00 01-01T00:00"},
		cut(t, Grid{Zone: lisbon, Width: width(t, "1y")}, "2026-03-28T10:00:00Z", "2026-04-10T10:00:00Z"))
	// Fixed hours do not care: seven of UTC's on the short night.
	assert.Len(t, cut(t, Grid{Zone: lisbon, Width: width(t, "1h")}, "2026-03-28T22:00:00Z", "2026-03-29T05:00:00Z"), 7)
}

// In Beirut clocks go ahead at midnight, 2026-03-28T22:00Z: the 29th begins at 01:00.
// In Havana they go back at 01:00 on 2026-11-01, so that its midnight comes twice.
func TestMidnightsThatAreNotOrAreTwice(t *testing.T) {
	assert.Equal(t, []string{"03-27T22:00 03-28T22:00", "03-28T22:00 03-29T21:00"},
		cut(t, Grid{Zone: zone(t, "Asia/Beirut"), Width: Step{Days: 1}}, "2026-03-28T12:00:00Z",
			"2026-03-29T12:00:00Z"))
	assert.Equal(t, []string{"10-31T04:00 11-01T04:00", "11-01T04:00 11-02T05:00"},
		cut(t, Grid{Zone: zone(t, "America/Havana"), Width: Step{Days: 1}}, "2026-10-31T12:00:00Z",
			"2026-11-01T12:00:00Z"))
}

func TestHoursOfTheDay(t *testing.T) {
	lisbon := zone(t, "Europe/Lisbon")
	day, night := []Hours{{8 * time.Hour, 20 * time.Hour}}, []Hours{{22 * time.Hour, 6 * time.Hour}}
	assert.Equal(t, []string{
		"03-28T00:00 03-29T00:00, 03-28T08:00 03-28T20:00",
		"03-29T00:00 03-29T23:00, 03-29T07:00 03-29T19:00",
	}, cut(t, Grid{Zone: lisbon, Width: Step{Days: 1}, Hours: day}, "2026-03-28T10:00:00Z", "2026-03-29T20:00:00Z"))
	// A night is one window, though midnight lies in it; this one has seven hours.
	assert.Equal(t, []string{
		"03-27T22:00 03-28T22:00, 03-27T22:00 03-28T06:00",
		"03-28T22:00 03-29T21:00, 03-28T22:00 03-29T05:00",
	}, cut(t, Grid{Zone: lisbon, Width: Step{Days: 1}, Hours: night}, "2026-03-28T01:00:00Z", "2026-03-29T01:00:00Z"))
	// Windows narrower than the hours are cut, or left out.
	assert.Equal(t, []string{
		"06-01T05:00 06-01T08:00, 06-01T07:00 06-01T08:00",
		"06-01T17:00 06-01T20:00, 06-01T17:00 06-01T19:00",
	}, func() []string {
		all := cut(t, Grid{
			Zone:   lisbon,
			Width:  Step{Fixed: 3 * time.Hour},
			Origin: moment(t, "2026-06-01T02:00:00Z"),
			Hours:  day,
		}, "2026-06-01T00:00:00Z", "2026-06-02T00:00:00Z")
		return []string{all[0], all[len(all)-1]}
	}())
	// Clocks that do not show 01:30, and that show it twice.
	early := []Hours{{90 * time.Minute, 3 * time.Hour}}
	assert.Equal(t, []string{"03-29T00:00 03-29T23:00, 03-29T01:00 03-29T02:00"},
		cut(t, Grid{Zone: lisbon, Width: Step{Days: 1}, Hours: early}, "2026-03-29T10:00:00Z", "2026-03-29T11:00:00Z"))
	assert.Equal(t, []string{"10-24T23:00 10-26T00:00, 10-25T00:30 10-25T03:00"},
		cut(t, Grid{Zone: lisbon, Width: Step{Days: 1}, Hours: early}, "2026-10-25T10:00:00Z", "2026-10-25T11:00:00Z"))
}

func TestDaysOfTheWeek(t *testing.T) {
	weekend, err := ParseDays("sat,sun")
	require.NoError(t, err)
	assert.Equal(t, "sat,sun", weekend.String())
	// 2026-03-28 is a Saturday. Two days in a row are one piece.
	assert.Equal(t, []string{"03-23T00:00 03-30T00:00, 03-28T00:00 03-30T00:00"},
		cut(t, Grid{Width: Step{Days: 7}, Days: weekend}, "2026-03-25T00:00:00Z", "2026-03-26T00:00:00Z"))
	friday, err := ParseDays("fri")
	require.NoError(t, err)
	night := []Hours{{22 * time.Hour, 6 * time.Hour}}
	// The night that begins on Friday ends on Saturday; a window is 22:00 to 22:00.
	assert.Equal(t, []string{"03-27T22:00 03-28T22:00, 03-27T22:00 03-28T06:00"},
		cut(t, Grid{Width: Step{Days: 1}, Days: friday, Hours: night}, "2026-03-24T23:00:00Z", "2026-03-30T00:00:00Z"))
	overWeek, err := ParseDays("fri-mon")
	require.NoError(t, err)
	assert.Equal(t, "mon,fri,sat,sun", overWeek.String())
	for _, wrong := range []string{"", "freitag", "mon-", "mon;tue"} {
		_, err := ParseDays(wrong)
		assert.ErrorContains(t, err, "mon-fri")
	}
	for _, wrong := range []string{"8-20", "08:00", "08:00-08:00", "25:00-26:00", "24:00-01:00"} {
		_, err := ParseHours(wrong)
		assert.ErrorContains(t, err, "write two different times of day", wrong)
	}
}

func TestStridesOriginsAndTheNewest(t *testing.T) {
	assert.Equal(t, []string{"03-01T08:00 03-01T09:00", "03-01T08:20 03-01T09:20", "03-01T08:40 03-01T09:40"},
		cut(t, Grid{Width: width(t, "1h"), Stride: width(t, "20m")}, "2026-03-01T08:00:00Z", "2026-03-01T09:00:00Z"), "overlapping")
	assert.Equal(t, []string{"03-01T08:00 03-01T08:05", "03-01T09:00 03-01T09:05"},
		cut(t, Grid{Width: width(t, "5m"), Stride: width(t, "1h")}, "2026-03-01T08:00:00Z", "2026-03-01T09:30:00Z"), "with holes between")
	assert.Equal(t, []string{"03-01T07:45 03-01T08:45", "03-01T08:45 03-01T09:45"},
		cut(t, Grid{Width: width(t, "1h"), Origin: moment(t, "2026-06-07T00:45:00Z")}, "2026-03-01T08:00:00Z",
			"2026-03-01T09:00:00Z"))
	assert.Equal(t, []string{"01-31T00:00 02-28T00:00", "02-28T00:00 03-31T00:00"},
		cut(t, Grid{Width: width(t, "1mo"), Origin: moment(t, "2025-12-31T00:00:00Z")}, "2026-02-01T00:00:00Z",
			"2026-03-01T00:00:00Z"), "there is no 31st of February")
	assert.Equal(t, []string{"03-01T08:00 03-01T08:10", "03-01T08:10 03-01T08:20"},
		cut(t, Grid{Width: width(t, "10m"), Newest: 2}, "2026-03-01T07:00:00Z", "2026-03-01T08:20:00Z"))
	assert.Equal(t, []string{"03-01T07:03 03-01T08:20"},
		cut(t, Grid{}, "2026-03-01T07:03:00Z", "2026-03-01T08:20:00Z"), "the whole range as one window")

	_, err := Grid{Width: Step{Fixed: time.Second}}.Cut(Range{From: moment(t, "2020-01-01T00:00:00Z"), To: moment(t,
		"2026-01-01T00:00:00Z")},
		1000)
	assert.ErrorContains(t, err, "about 189388800 windows, one every 1s; at most 1000")
	near := Range{From: moment(t, "2026-01-01T00:00:00Z"), To: moment(t, "2026-01-02T00:00:00Z")}
	for _, wide := range []Step{width(t, "1000y"), width(t, "200y"), {Fixed: 190 * 365 * 24 * time.Hour}} {
		_, err = Grid{Width: wide}.Cut(near, 1000)
		assert.ErrorContains(t, err, "reaches beyond the year 2200")
	}
	_, err = Grid{Width: Step{Days: 1}, Origin: time.Date(1, 1, 1, 0, 0, 1, 0, time.UTC)}.Cut(near, 1000)
	assert.ErrorContains(t, err, "origin 0001-01-01T00:00:01Z is not within the years 1971 to 2200")
	windows, err := Grid{Width: Step{Days: 1}}.Cut(near, 1000)
	require.NoError(t, err)
	_, err = Grid{}.Shifted(windows, width(t, "1000y"))
	assert.ErrorContains(t, err, "begin before the year 1971")
	_, err = Grid{Stride: Step{Days: 1}}.Cut(Range{From: moment(t, "2020-01-01T00:00:00Z"), To: moment(t,
		"2026-01-01T00:00:00Z")},
		1000)
	assert.ErrorContains(t, err, "stride says nothing of the whole range as one window")
	for _, wrong := range []string{"", "15", "m", "0h", "-1d", "1.5h", "3 d", "2000y", "1fortnight"} {
		_, err := ParseStep(wrong)
		assert.Error(t, err, wrong)
	}
}

func TestRangesByName(t *testing.T) {
	lisbon := zone(t, "Europe/Lisbon")
	now := time.Date(2026, 3, 29, 12, 30, 0, 0, lisbon) // a Sunday, of 23 hours
	for text, want := range map[string][2]string{
		"last 24h":   {"2026-03-28T11:30:00Z", "2026-03-29T11:30:00Z"},
		"last 1d":    {"2026-03-28T12:30:00Z", "2026-03-29T11:30:00Z"}, // the same clock, 23 hours ago
		"last-1mo":   {"2026-02-28T12:30:00Z", "2026-03-29T11:30:00Z"},
		"today":      {"2026-03-29T00:00:00Z", "2026-03-29T11:30:00Z"},
		"yesterday":  {"2026-03-28T00:00:00Z", "2026-03-29T00:00:00Z"},
		"this week":  {"2026-03-23T00:00:00Z", "2026-03-29T11:30:00Z"},
		"this-month": {"2026-03-01T00:00:00Z", "2026-03-29T11:30:00Z"},
		"this year":  {"2026-01-01T00:00:00Z", "2026-03-29T11:30:00Z"},
		"last week":  {"2026-03-16T00:00:00Z", "2026-03-23T00:00:00Z"},
		"last-month": {"2026-02-01T00:00:00Z", "2026-03-01T00:00:00Z"},
		"last year":  {"2025-01-01T00:00:00Z", "2026-01-01T00:00:00Z"},
	} {
		r, err := ParseRange(text, now)
		require.NoError(t, err)
		assert.Equal(t, want, [2]string{r.From.UTC().Format(time.RFC3339), r.To.UTC().Format(time.RFC3339)}, text)
		assert.NoError(t, r.Check())
	}
	_, err := ParseRange("recently", now)
	assert.ErrorContains(t, err, "use last and a duration, such as last 24h, or today, yesterday")
	_, err = ParseRange("last -1h", now)
	assert.Error(t, err)
	_, err = ParseLast("-1h", now)
	assert.ErrorContains(t, err, "write it without a sign, such as last=1h")
	assert.ErrorContains(t, Range{From: now, To: now.Add(-1), Exact: true}.Check(), "reversed")
	assert.ErrorContains(t, Range{From: now, To: now, Exact: true}.Check(), "empty")
	assert.ErrorContains(t, Range{From: now.Add(time.Hour), To: now}.Check(),
		"from 2026-03-29T13:30:00+01:00 is not over yet")
	assert.ErrorContains(t, Range{From: time.Unix(0, 0), To: now}.Check(), "within the years 1971")
	assert.Equal(t, "5m", Range{From: now, To: now.Add(24 * time.Hour)}.Fitting().String())
	assert.Equal(t, "1w", Range{From: now, To: now.AddDate(20, 0, 0)}.Fitting().String())
}

// Samoa went over the date line: there was no 2011-12-30.
func TestADayThatNeverWasIsNoWindow(t *testing.T) {
	apia := zone(t, "Pacific/Apia")
	assert.Equal(t, []string{"12-29T10:00 12-30T10:00", "12-30T10:00 12-31T10:00"},
		cut(t, Grid{Zone: apia, Width: Step{Days: 1}}, "2011-12-29T12:00:00Z", "2011-12-30T12:00:00Z"))
	assert.Equal(t, []string{"12-28T10:00 12-29T10:00", "12-31T10:00 01-01T10:00"}, // the even days by its clocks: the 28th and the 1st, as there is no 30th
		cut(t, Grid{
			Zone:   apia,
			Width:  Step{Days: 1},
			Stride: Step{Days: 2},
			Origin: moment(t, "2011-12-24T10:00:00Z"),
		}, "2011-12-28T12:00:00Z", "2012-01-01T12:00:00Z"))
}

func TestStepsByTheClockFollowIt(t *testing.T) {
	lisbon := zone(t, "Europe/Lisbon")
	assert.Equal(t, []string{"03-29T00:00 03-29T11:00", "03-29T11:00 03-29T23:00"}, // eleven hours, and twelve
		cut(t, Grid{
			Zone:    lisbon,
			Width:   Step{Fixed: 12 * time.Hour},
			ByClock: true,
		}, "2026-03-29T00:00:00Z", "2026-03-29T23:00:00Z"))
	assert.Len(t, cut(t, Grid{
		Zone:    lisbon,
		Width:   Step{Fixed: time.Hour},
		ByClock: true,
	}, "2026-03-29T00:00:00Z", "2026-03-29T23:00:00Z"), 23)
	assert.Equal(t, []string{"10-24T23:00 10-25T00:00", "10-25T00:00 10-25T02:00", "10-25T02:00 10-25T03:00"}, // from one to two there are two hours
		cut(t, Grid{
			Zone:    lisbon,
			Width:   Step{Fixed: time.Hour},
			ByClock: true,
		}, "2026-10-24T23:00:00Z", "2026-10-25T03:00:00Z"))
}

func TestShiftedWindowsShowNoHourTwice(t *testing.T) {
	for _, test := range []struct {
		zone, from, to, by string
		width              time.Duration
	}{
		{"Europe/Lisbon", "2026-03-29T22:00:00Z", "2026-03-30T12:00:00Z", "1d", time.Hour},
		{"Europe/Lisbon", "2026-10-24T20:00:00Z", "2026-10-26T12:00:00Z", "1d", 30 * time.Minute},
		{"America/Sao_Paulo", "2018-02-17T00:00:00Z", "2018-02-20T00:00:00Z", "1d", 15 * time.Minute},
		{"Pacific/Apia", "2011-12-29T00:00:00Z", "2012-01-03T00:00:00Z", "1d", time.Hour},
		{"UTC", "2026-03-25T00:00:00Z", "2026-04-02T00:00:00Z", "1mo", time.Hour},
		{"Europe/Lisbon", "2026-03-25T00:00:00Z", "2026-04-02T00:00:00Z", "1w", 10 * time.Minute},
	} {
		g := Grid{Zone: zone(t, test.zone), Width: Step{Fixed: test.width}}
		windows, err := g.Cut(Range{From: moment(t, test.from), To: moment(t, test.to), Exact: true}, 10_000)
		require.NoError(t, err)
		shifted, err := g.Shifted(windows, width(t, test.by))
		require.NoError(t, err)
		for i := 1; i < len(shifted); i++ {
			require.LessOrEqual(t, shifted[i-1].To, shifted[i].From, "%v", test)
		}
		assert.Less(t, shifted[0].From, shifted[len(shifted)-1].To)
		var length time.Duration
		for _, w := range shifted {
			length += w.Length()
		}
		assert.Equal(t, time.Duration(shifted[len(shifted)-1].To-shifted[0].From), length, "and leave none out: %v",
			test)
	}
}

func TestHolidaysAndFolds(t *testing.T) {
	dates, err := ParseDates("2026-03-28, 2026-03-30..2026-03-31")
	require.NoError(t, err)
	assert.Equal(t, []string{
		"03-27T00:00 03-28T00:00, 03-27T00:00 03-28T00:00", "03-29T00:00 03-30T00:00, 03-29T00:00 03-30T00:00",
	},
		cut(t, Grid{Width: Step{Days: 1}, Except: dates}, "2026-03-27T00:00:00Z", "2026-04-01T00:00:00Z"))
	for _, wrong := range []string{"", "28.3.2026", "2026-03-30..2026-03-29", "1999-01-01..2026-01-01"} {
		_, err := ParseDates(wrong)
		assert.ErrorContains(t, err, "except", wrong)
	}
	march := Range{
		From:  moment(t, "2026-03-02T00:00:00Z"),
		To:    moment(t, "2026-03-16T00:00:00Z"),
		Exact: true,
	} // two weeks, from a Monday
	for fold, places := range map[Fold][2]string{FoldDay: {"00:00", "18:00"}, FoldWeek: {"Mon 00:00", "Sun 18:00"}} {
		windows, err := Grid{Width: Step{Fixed: 6 * time.Hour}, Fold: fold}.Cut(march, 1000)
		require.NoError(t, err)
		assert.Equal(t, places, [2]string{windows[0].Place, windows[len(windows)-1].Place})
		var all time.Duration
		for _, w := range windows {
			all += w.Length()
		}
		assert.Equal(t, 14*wholeDay, all)
	}
	year := Range{From: moment(t, "2024-01-01T00:00:00Z"), To: moment(t, "2026-01-01T00:00:00Z"), Exact: true}
	windows, err := Grid{Width: Step{Months: 1}, Fold: FoldYear}.Cut(year, 1000)
	require.NoError(t, err)
	assert.Equal(t, []any{12, "Feb", 57 * wholeDay}, []any{len(windows), windows[1].Place, windows[1].Length()}) // 29 and 28 days
	for _, wrong := range []Grid{{Fold: FoldDay}, {Fold: FoldDay, Width: Step{Days: 1}}, {Fold: FoldDay, Width: Step{Fixed: 7 * time.Hour}}, {Fold: FoldWeek, Width: Step{Days: 2}},
		{Fold: FoldYear, Width: Step{Months: 5}}, {
			Fold:   FoldDay,
			Width:  Step{Fixed: time.Hour},
			Stride: Step{Fixed: time.Minute},
		}, {Fold: FoldDay, Width: Step{Fixed: time.Hour}, Clipped: true}} {
		_, err := wrong.Cut(march, 1000)
		assert.ErrorContains(t, err, "fold", "%+v", wrong)
	}
}

func TestTimesAsPeopleWriteThem(t *testing.T) {
	lisbon := zone(t, "Europe/Lisbon")
	for text, want := range map[string]string{
		"2026-10-24": "2026-10-23T23:00:00Z", "2026-10-24 06:00": "2026-10-24T05:00:00Z", "2026-10-24T06:00:30": "2026-10-24T05:00:30Z", "2026-10-24T06:00:00Z": "2026-10-24T06:00:00Z",
		"2026-10-25 01:30": "2026-10-25T00:30:00Z", "2026-03-29 01:30": "2026-03-29T01:00:00Z", // shown twice: the first time; never: the moment of the change
	} {
		at, err := ParseTime(text, lisbon)
		require.NoError(t, err)
		assert.Equal(t, want, at.UTC().Format(time.RFC3339), text)
	}
	_, err := ParseTime("24.10.2026", lisbon)
	assert.ErrorContains(t, err, "write a date such as 2026-03-01")
}
