package e2e

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// TestASeriesThatIsRenamedKeepsItsHistoryAtBothEnds renames a station while its device goes on as before. A kill, and a
// copy of the gateway from before, which knows only the old name, change nothing of it at the central.
func TestASeriesThatIsRenamedKeepsItsHistoryAtBothEnds(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	gateway, head := p.gateway, p.head
	first := time.Now().UTC().Add(-5 * time.Hour).Truncate(time.Hour)
	times := func(from, to int) (out []time.Time) {
		for s := from; s < to; s += 10 {
			out = append(out, first.Add(time.Duration(s)*time.Second))
		}
		return out
	}
	holds := func(c *client.Client, wanted map[string]int) bool {
		windows, err := c.Windows(t.Context(), client.WindowsQuery{
			Select: []string{"stony-beck/#"}, From: first, To: first.Add(4 * time.Hour), Width: "whole", Stats: []string{"count"},
		})
		if err != nil || len(windows.Series) != len(wanted) {
			return false
		}
		for _, s := range windows.Series {
			if float64(wanted[s.Name]) != s.Values["count"][0] {
				return false
			}
		}
		return true
	}
	pushAt(t, gateway.Base(), append(times(0, 3600), times(4500, 7200)...)) // with a gap
	eventually(t, "both have it", func() bool {
		old := map[string]int{"stony-beck/raceway-1/oxygen": 630}
		return holds(gateway, old) && holds(head, old)
	})
	person := newPerson(t, gateway.Base())
	person.does("", "note", "add", "stony-beck/raceway-1/oxygen", "moved to the new raceway")
	p.copyGateway(person)

	assert.Contains(t, person.does("", "series", "rename", "stony-beck/raceway-1", "stony-beck/raceway-9"), "1 series are renamed")
	renamed := map[string]int{"stony-beck/raceway-9/oxygen": 630}
	assert.True(t, holds(gateway, renamed))
	eventually(t, "the central has the new name", func() bool { return holds(head, renamed) })

	pushAt(t, gateway.Base(), times(7200, 9000)) // the device still says raceway-1
	renamed["stony-beck/raceway-9/oxygen"] = 810
	eventually(t, "what the device sends is of the new name", func() bool { return holds(gateway, renamed) && holds(head, renamed) })
	p.killGateway()
	gateway = p.gateway
	person = newPerson(t, gateway.Base())
	pushAt(t, gateway.Base(), times(9000, 10800))
	renamed["stony-beck/raceway-9/oxygen"] = 990
	eventually(t, "also after a kill", func() bool { return holds(gateway, renamed) && holds(head, renamed) })
	assert.Contains(t, person.does("", "note", "list", "stony-beck/raceway-9/#"), "moved to the new raceway")
	for _, c := range []*client.Client{gateway, head} {
		found, err := c.Gaps(t.Context(), client.GapsQuery{Select: "stony-beck/raceway-9/oxygen", Last: "1d", Cause: "not_known"})
		require.NoError(t, err)
		assert.NotEmpty(t, found.Gaps, "its gaps go with it")
	}
	_, err := gateway.Rename(t.Context(), client.NewName{From: "stony-beck/raceway-9", To: "long-mere/raceway-9"})
	assert.ErrorContains(t, err, "another at the same site")
	_, err = gateway.Rename(t.Context(), client.NewName{From: "stony-beck/nothing", To: "stony-beck/raceway-2"})
	assert.ErrorContains(t, err, "no series is called stony-beck/nothing")

	// The copy from before knows only the old name.
	p.restoreGateway(person)
	gateway = p.gateway
	pushAt(t, gateway.Base(), times(10800, 12600))
	renamed["stony-beck/raceway-9/oxygen"] = 1170
	eventually(t, "the central takes it under the new name", func() bool { return holds(head, renamed) })
	pushAt(t, gateway.Base(), times(0, 20)) // and back
	_, err = gateway.Rename(t.Context(), client.NewName{From: "stony-beck/raceway-1", To: "stony-beck/raceway-9"})
	require.NoError(t, err)
	eventually(t, "both have one name again", func() bool { return holds(head, renamed) })
}
