package pipeline

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/records"
)

// bring submits one reading of a path and is why it was refused.
func (r *rig) bring(path string, one reading.Reading) (refusal string) {
	one.Path, one.Time, one.From = series.Path(path), time.Now().UnixNano(), &reading.Origin{Source: "own", Place: "p", Raw: []byte("raw")}
	d := &Delivery{Readings: []reading.Reading{one}}
	done := make(chan error, 1)
	d.Done = func(err error) { done <- err }
	before := r.pipe.Rejected()
	r.pipe.Submit(d)
	require.NoError(r.t, <-done)
	if r.pipe.Rejected() == before {
		return ""
	}
	rejects, err := r.store.Rejects.List(records.Wanting{Most: 1})
	require.NoError(r.t, err)
	return rejects[0].Reason
}

func (r *rig) definition(path string) series.Definition {
	s, ok := r.store.Find(series.Path(path))
	require.True(r.t, ok, path)
	return s.Definition
}

func TestSeriesAreFoundAsTheyAppear(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		finding := everything(t)
		finding.Kind, finding.Unit, finding.Discover = series.Gauge, "", 6
		named := everything(t)
		named.Select, named.Unit = selector(t, "+/+/oxygen"), "mg/l"
		r.pipe.Use([]config.SeriesRule{finding, named}, nil)

		for path, one := range map[string]reading.Reading{
			"long-mere/buoy-1/oxygen":        {Value: 9},
			"long-mere/buoy-1/water_temp_1m": {Value: 7},
			"long-mere/buoy-1/depth":         {Value: 3, Unit: "m"},
			"long-mere/buoy-1/anchored":      {Value: 1, Truth: true},
			"long-mere/buoy-1/lamp":          {Text: "dark"},
			"long-mere/buoy-1/count":         {Value: 5},
		} {
			assert.Empty(t, r.bring(path, one))
		}
		assert.Equal(t, "mg/l", r.definition("long-mere/buoy-1/oxygen").Unit, "a rule that names it comes first")
		assert.Equal(t, "Cel", r.definition("long-mere/buoy-1/water_temp_1m").Unit)
		assert.Equal(t, "m", r.definition("long-mere/buoy-1/depth").Unit)
		assert.Equal(t, series.StateNames("0=false,1=true"), r.definition("long-mere/buoy-1/anchored").States)
		dark := r.definition("long-mere/buoy-1/lamp").States.Map()
		require.Contains(t, dark, "dark")
		assert.Empty(t, r.bring("long-mere/buoy-1/lamp", reading.Reading{Text: "lit"}))
		both := r.definition("long-mere/buoy-1/lamp").States.Map()
		assert.Len(t, both, 2)
		assert.Equal(t, dark["dark"], both["dark"], "what was found stays")

		// What it is now stays so.
		assert.Contains(t, r.bring("long-mere/buoy-1/lamp", reading.Reading{Value: 7}),
			"the number 7 came where texts were when the series was found")
		assert.Contains(t, r.bring("long-mere/buoy-1/count", reading.Reading{Text: "many"}),
			`"many" came where numbers were when the series was found`)
		assert.Contains(t, r.bring("long-mere/buoy-1/count", reading.Reading{Value: 1, Truth: true}),
			"true came where numbers were")
		assert.Empty(t, r.bring("long-mere/buoy-1/depth", reading.Reading{Value: 450, Unit: "cm"}),
			"another unit of the same is converted")
		assert.Contains(t, r.bring("long-mere/buoy-1/depth", reading.Reading{Value: 450, Unit: "kg"}),
			"the sender says its unit is kg")
		for i := range mostFoundStates {
			refusal := r.bring("long-mere/buoy-1/lamp", reading.Reading{Text: fmt.Sprint("colour ", i)})
			assert.Equal(t, i >= mostFoundStates-2, refusal != "", "%d: %s", i, refusal)
		}

		// There is an end to it, also after a restart, and what is known goes on.
		assert.Empty(t, r.bring("long-mere/buoy-2/count", reading.Reading{Value: 5}))
		for range 2 {
			assert.Contains(t, r.bring("long-mere/buoy-3/count", reading.Reading{Value: 5}),
				"the rule that finds # has found 6 already")
			assert.Contains(t, r.bring("long-mere/buoy-4/name", reading.Reading{Text: "a, b"}), "has found 6 already")
			assert.Empty(t, r.bring("long-mere/buoy-2/count", reading.Reading{Value: 5}))
			r.stop()
			require.NoError(t, r.store.Close())
			r.start()
			r.pipe.Use([]config.SeriesRule{finding, named}, nil)
		}
		found := r.pipe.Discovered()
		require.Len(t, found, 1)
		assert.Len(t, found[0].Found, 6)
		r.pipe.Use([]config.SeriesRule{
			finding, named,
			{
				Select:     selector(t, "+/+/count"),
				Definition: series.Definition{Kind: series.Gauge, FreshFor: time.Minute},
			},
		}, nil)
		assert.Len(t, r.pipe.Discovered()[0].Found, 4)
		assert.Empty(t, r.bring("long-mere/buoy-3/count", reading.Reading{Value: 5}), "a rule names it now")
		assert.Empty(t, r.bring("long-mere/buoy-5/depth", reading.Reading{Value: 5}), "and there is room for others")
		assert.Contains(t, r.bring("long-mere/buoy-5/name", reading.Reading{Text: "a, b"}),
			"its first value is a text that is no name of a state")
	})
}

func selector(t *testing.T, text string) series.Selector {
	out, err := series.ParseSelector(text)
	require.NoError(t, err)
	return out
}

// Which state of a series comes first is chance, and what it is called by must not be.
func TestStatesAreNumberedByTheirNames(t *testing.T) {
	numbered := func(names ...string) map[string]float64 {
		states := series.StateNames("")
		for _, name := range names {
			var err error
			states, err = withName(states, name)
			require.NoError(t, err)
		}
		return states.Map()
	}
	assert.Equal(t, map[string]float64{"OFF": 0, "ON": 1}, numbered("ON", "OFF"))
	assert.Equal(t, map[string]float64{"OFF": 0, "ON": 1}, numbered("OFF", "ON"))
	assert.Equal(t, map[string]float64{"closed": 0, "open": 1}, numbered("open", "closed"))
	names := []string{"eco", "boost", "standby", "stopped", "running"}
	first := numbered(names...)
	slices.Reverse(names)
	assert.Equal(t, first, numbered(names...))
	assert.Len(t, numbered("off", "closed", "stopped", "idle"), 4, "only one of them can be 0")
}
