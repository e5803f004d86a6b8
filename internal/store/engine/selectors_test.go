package engine

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
)

func TestSelectorsFindWithoutLookingAtAll(t *testing.T) {
	var c catalogue
	id := uint32(0)
	for site := range 20 {
		for station := range 100 {
			for quantity := range 10 {
				id++
				labels := series.Labels(fmt.Sprintf("depth=%dm", quantity))
				if id == 777 {
					labels = "depth=6m,sensor=spare"
				}
				c.put(&Series{
					ID: id,
					Definition: series.Definition{
						Path:   series.Path(fmt.Sprintf("site-%02d/station-%02d/q-%d", site, station, quantity)),
						Labels: labels,
					},
				})
			}
		}
	}
	require.Equal(t, 20_000, c.count)
	for _, test := range []struct {
		selector     string
		labels       series.Labels
		found, looks int
	}{
		{"site-03/station-07/q-4", "", 1, 4},
		{"site-03/station-07/+", "", 10, 13},
		{"site-03/#", "", 1000, 1102},
		{"site-03/+/q-4", "", 100, 202},
		{"+/+/q-4", "", 2000, 1 + 20 + 2000 + 2000},
		{"#", "", 20_000, 20_000 + 2000 + 20 + 1},
		{"nowhere/#", "", 0, 1},
		{"#", "sensor=spare", 1, 1},
		{"site-03/#", "depth=6m,sensor=spare", 0, 1},
		{"site-03/+/+", "depth=5m", 100, 2000},
		{"#", "depth=99m", 0, 0},
	} {
		selector, err := series.ParseSelector(test.selector)
		require.NoError(t, err)
		found, visited := c.find(selector.With(test.labels))
		assert.Len(t, found, test.found, test.selector)
		assert.LessOrEqual(t, visited, test.looks, test.selector)
		for i, s := range found {
			assert.True(t, selector.Match(s.Path) && s.Labels.Has(test.labels))
			assert.True(t, i == 0 || found[i-1].Path < s.Path, "in order of the paths")
		}
	}
	moved := c.get(777)
	c.redefine(moved, series.Definition{Path: moved.Path, Labels: "sensor=other"})
	everything, err := series.ParseSelector("#")
	require.NoError(t, err)
	found, _ := c.find(everything.With("sensor=spare"))
	assert.Empty(t, found)
	found, _ = c.find(everything.With("sensor=other"))
	assert.Len(t, found, 1)
	assert.Equal(t, moved, c.byPath(moved.Path))
	assert.Nil(t, c.byPath("site-03/station-07"))
	assert.Nil(t, c.get(1<<30))
}

func TestPagesTogetherAreTheList(t *testing.T) {
	e := &Engine{}
	add := func(id uint32, path series.Path) {
		e.alter(func(m *memory) {
			m.catalogue.put(&Series{ID: id, Definition: series.Definition{Path: path, Labels: "depth=1m"}})
		})
	}
	id := uint32(0)
	for _, path := range []series.Path{
		"long-mere/mast/air_temp", "long-mere/mast-2/air_temp", "long-mere/mast/wind", "long-mere-2/mast/wind",
		"stony-beck/pump/power", "stony-beck/pump/energy", "stony-beck/tank/level", "alder/tank/level",
	} {
		id++
		add(id, path)
	}
	for range 2 {
		for _, text := range []string{"#", "long-mere/#", "long-mere/mast/#", "+/mast/wind", "stony-beck/pump/energy", "+/+/level", "none/#"} {
			selector, err := series.ParseSelector(text)
			require.NoError(t, err)
			for _, selector := range []series.Selector{selector, selector.With("depth=1m")} {
				var want []series.Path
				for _, s := range e.List(selector) {
					if s.Path != "long-mere/mast/wind" {
						want = append(want, s.Path)
					}
				}
				for most := 1; most < 4; most++ {
					var got []series.Path
					for more, after := true, series.Path(""); more; {
						var page []Series
						page, more = e.Page(selector, after, most, func(p series.Path) bool { return p != "long-mere/mast/wind" })
						for _, s := range page {
							got, after = append(got, s.Path), s.Path
						}
						require.LessOrEqual(t, len(page), most)
						require.True(t, !more || len(page) == most)
					}
					assert.Equal(t, want, got, "%s, %d a page", selector, most)
				}
			}
		}
		add(20, "long-mere/mast/pressure") // in the middle of the list
		add(21, "zinc-mine/tank/level")    // at its end
	}
}
