package screen

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
)

var oxygen = &series.Definition{Path: "stony-beck/raceway-1/oxygen", Kind: series.Gauge}

const second = int64(time.Second)

// feed lets readings through rules one after the other, and is what became of each.
func feed(def *series.Definition, rules []Check, readings []point) (out []Verdict) {
	memory := &Memory{}
	for _, r := range readings {
		memory.Arrived(r.time, r.value)
		v := Judge(rules, &Subject{
			Def:    def,
			Time:   r.time,
			Value:  r.value,
			Memory: memory,
			Beside: func(series.Path) (float64, bool) { return 0, false },
		})
		if v.Rule == "" {
			memory.Good(r.time, r.value)
		}
		out = append(out, v)
	}
	return out
}

// Against a slow memory that keeps everything: the good reading before is compared with.
func TestChangesAreComparedWithTheGoodReadingBefore(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	rule := Change{By: 2, Per: time.Minute}
	for range 300 {
		var readings []point
		at, value := 1e9*second, 8.0
		for range 100 {
			at += second * int64(1+random.IntN(30))
			value += random.NormFloat64() * 0.3
			shown := value
			if random.IntN(10) == 0 {
				shown = random.NormFloat64() * 50
			}
			readings = append(readings, point{at, shown})
		}
		for i := range readings[1:] { // neighbours change places, as on a patchy link
			if random.IntN(8) == 0 {
				readings[i], readings[i+1] = readings[i+1], readings[i]
			}
		}
		var good []point
		for i, got := range feed(oxygen, []Check{{"change", Reject, rule}}, readings) {
			r, before := readings[i], point{}
			for _, g := range good {
				if g.time < r.time && g.time > before.time {
					before = g
				}
			}
			if before.time == 0 { // none before: the first one after
				for _, g := range good {
					if before.time == 0 || g.time < before.time {
						before = g
					}
				}
			}
			wanted := before.time == 0 || math.Abs(r.value-before.value) <= 2*math.Abs(float64(r.time-before.time))/float64(time.Minute)
			require.Equal(t, wanted, got.Rule == "", "%v after %v: %s", r, before, got.Reason)
			if wanted {
				good = append(good, r)
			}
		}
	}
}

func TestAStepThatIsTrueCountsBeforeLong(t *testing.T) {
	var readings []point
	for i := range int64(60) {
		v := 8.0
		if i >= 10 {
			v = 18
		}
		readings = append(readings, point{i * 10 * second, v})
	}
	verdicts := feed(oxygen, []Check{{"change", Reject, Change{By: 2, Per: time.Minute}}}, readings)
	refused := slices.IndexFunc(verdicts[10:], func(v Verdict) bool { return v.Rule == "" })
	assert.Equal(t, 29, refused, "10 away at 2 a minute takes five minutes after the last good one")
	assert.Contains(t, verdicts[10].Reason, "value 18 is 10 away from 8, 10s apart; at most 2 in 1m is plausible")
}

func TestWhatIsNearForABearingAndACounter(t *testing.T) {
	wind := &series.Definition{Kind: series.Bearing}
	got := feed(wind, []Check{{"change", Reject, Change{By: 20, Per: time.Second}}},
		[]point{{0, 350}, {second, 5}, {2 * second, 180}})
	assert.Equal(t, []string{"", "", "change"}, []string{got[0].Rule, got[1].Rule, got[2].Rule})
	energy := &series.Definition{Kind: series.Counter, Wrap: 1000}
	got = feed(energy, []Check{{"change", Reject, Change{By: 20, Per: time.Second}}},
		[]point{{0, 990}, {second, 5}, {2 * second, 100}})
	assert.Equal(t, []string{"", "", "change"}, []string{got[0].Rule, got[1].Rule, got[2].Rule})
}

func TestAStuckValueIsFoundByAskingForTheLastOther(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for range 200 {
		var readings []point
		at := int64(0)
		for range 60 {
			at += second * int64(1+random.IntN(20))
			readings = append(readings, point{at, float64(random.IntN(2) * random.IntN(2))})
		}
		for i, got := range feed(oxygen, []Check{{"stuck", Uncertain, Stuck{For: time.Minute}}}, readings) {
			since := readings[i].time
			for k := i; k >= 0 && readings[k].value == readings[i].value; k-- {
				since = readings[k].time
			}
			require.Equal(t, readings[i].time-since > int64(time.Minute), got.Then == Uncertain, "%d of %v", i,
				readings)
		}
	}
}

func TestRulesOverOneMessage(t *testing.T) {
	with := map[series.Path]float64{"stony-beck/raceway-1/water_temp": 30}
	subject := func(v float64) *Subject {
		return &Subject{
			Def:    oxygen,
			Value:  v,
			Memory: &Memory{},
			Beside: func(p series.Path) (float64, bool) { v, ok := with[p]; return v, ok },
		}
	}
	holds, err := NewHolds("value < 14.6 - 0.25 * t", []string{"t"}, []string{"water_temp"})
	require.NoError(t, err)
	assert.Empty(t, holds.Doubt(subject(7)))
	assert.Equal(t, `value 8 does not keep to "value < 14.6 - 0.25 * t", with stony-beck/raceway-1/water_temp 30`,
		holds.Doubt(subject(8)))
	requires := Requires{"water_temp", "mast/wind_speed"}
	assert.Equal(t, "stony-beck/mast/wind_speed is missing in the same message", requires.Doubt(subject(8)))
	with["stony-beck/mast/wind_speed"] = 3
	assert.Empty(t, requires.Doubt(subject(8)))
	delete(with, "stony-beck/raceway-1/water_temp")
	assert.Empty(t, holds.Doubt(subject(8)), "where the other is missing it says nothing")
	_, err = NewHolds("value <", nil, nil)
	assert.Error(t, err)
}

func TestTheFirstThatRejectsDecides(t *testing.T) {
	rules := []Check{
		{"unlikely", Uncertain, Within{0, 15}}, {"impossible", Reject, Within{-1, 20}}, {"whole", Uncertain, Allowed{1, 2, 16}},
	}
	for value, wanted := range map[float64]Verdict{
		1:  {},
		16: {"unlikely", Uncertain, "value 16 is not within 0 to 15"},
		25: {"impossible", Reject, "value 25 is not within -1 to 20"},
		3:  {"whole", Uncertain, "value 3 is none of the allowed 1, 2, 16"},
	} {
		assert.Equal(t, wanted, Judge(rules, &Subject{Def: oxygen, Value: value, Memory: &Memory{}}))
	}
}
