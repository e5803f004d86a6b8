package e2e

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// TestWhatIsRemovedStaysRemovedAtBothEnds removes a part of what a gateway collected. Readings of it that come again,
// a kill, and a copy of the gateway from before bring nothing of it back to the central.
func TestWhatIsRemovedStaysRemovedAtBothEnds(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	gateway, head := p.gateway, p.head
	first := time.Now().UTC().Add(-10 * time.Hour).Truncate(time.Hour)
	at := func(second int) time.Time { return first.Add(time.Duration(second) * time.Second) }
	times := func(from, to int) (out []time.Time) {
		for s := from; s < to; s += 5 {
			out = append(out, at(s))
		}
		return out
	}
	pushAt(t, gateway.Base(), times(0, 4*3600))
	counted := func(c *client.Client, from, to int) int {
		windows, err := c.Windows(t.Context(), client.WindowsQuery{
			Select: []string{"stony-beck/raceway-1/oxygen"}, From: at(from), To: at(to), Width: "whole", Stats: []string{"count"},
		})
		if err != nil || len(windows.Series) == 0 {
			return -1
		}
		if n := windows.Series[0].Values["count"][0]; n == n {
			return int(n)
		}
		return 0
	}
	eventually(t, "the central has all", func() bool { return counted(head, 0, 4*3600) == 2880 })
	person := newPerson(t, gateway.Base())
	p.copyGateway(person)

	// From 1:00:07 to 2:29:43, in the middle of windows.
	from, to := 3607, 8983
	what := []string{
		"remove", "stony-beck/raceway-1/oxygen", "--from", at(from).Format(time.RFC3339), "--to", at(to).Format(time.RFC3339),
		"--reason", "probe in the bucket",
	}
	gone := (8980-3610)/5 + 1
	assert.Contains(t, person.does("", append(what, "--dry-run")...), "Nothing was removed")
	assert.Equal(t, 2880, counted(gateway, 0, 4*3600))
	told := person.does("", what...)
	assert.Contains(t, told, fmt.Sprintf("%d readings and ", gone))
	isGone := func(c *client.Client) bool {
		return counted(c, 0, 4*3600) == 2880-gone && counted(c, 3610, 8980) == 0 && counted(c, 0, 3600) == 720 &&
			counted(c, 3600, 3660) == 2 && counted(c, 8940, 9000) == 3
	}
	eventually(t, "the windows at the ends are made again", func() bool { return isGone(gateway) })
	eventually(t, "the central removes it as well", func() bool { return isGone(head) })
	for _, c := range []*client.Client{gateway, head} {
		found, err := c.Gaps(t.Context(), client.GapsQuery{Last: "1d", Cause: "removed"})
		require.NoError(t, err)
		require.Len(t, found.Gaps, 1)
		assert.Equal(t, "probe in the bucket", found.Gaps[0].Detail)
	}

	// Late readings of it are rejected, others count; a kill changes nothing.
	pushAt(t, gateway.Base(), []time.Time{at(5001), at(3601)})
	p.killGateway()
	gateway = p.gateway
	eventually(t, "the late one counts at both ends", func() bool {
		return counted(gateway, 3600, 3660) == 3 && counted(head, 3600, 3660) == 3 && counted(head, 3610, 8980) == 0
	})
	counts, err := gateway.Rejects(t.Context(), client.RejectFilter{Rule: "removed"})
	require.NoError(t, err)
	require.Len(t, counts.Rejects, 1)
	assert.Contains(t, counts.Rejects[0].Reason, "removed what is of this time: probe in the bucket")

	// Under another name it stays removed as well.
	person = newPerson(t, gateway.Base())
	person.does("", "series", "rename", "stony-beck/raceway-1", "stony-beck/raceway-9")
	pushAt(t, gateway.Base(), []time.Time{at(5002), at(3602)})
	counts, err = gateway.Rejects(t.Context(), client.RejectFilter{Rule: "removed"})
	require.NoError(t, err)
	assert.Len(t, counts.Rejects, 2)
	person.does("", "series", "rename", "stony-beck/raceway-9", "stony-beck/raceway-1")

	// A copy of the gateway from before has it again, and sends everything: the central leaves out what was removed.
	p.restoreGateway(person)
	gateway = p.gateway
	pushAt(t, gateway.Base(), times(4*3600, 4*3600+600))
	eventually(t, "the central gets what is new", func() bool { return counted(head, 4*3600, 5*3600) == 120 })
	eventually(t, "all was sent again", func() bool {
		up, err := gateway.Uplinks(t.Context())
		return err == nil && len(up.Sending) == 1 && up.Sending[0].BacklogRows == 0 && up.Sending[0].Up
	})
	assert.Equal(t, 0, counted(head, 3610, 8980))
	assert.Equal(t, 720, counted(head, 0, 3600))
}
