package pipeline

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store/records"
)

// gaps returns the gaps of the series, in order.
func (r *rig) gaps() []records.Gap {
	found, err := r.store.Gaps.Between(time.Unix(0, 0), time.Now().Add(time.Hour), []series.Path{path})
	require.NoError(r.t, err)
	return found
}

// live gives a reading every twenty seconds, as of now.
func (r *rig) live(length time.Duration, value float64) {
	for range length / (20 * time.Second) {
		require.NoError(r.t, r.give(map[time.Duration]float64{0: value}, time.Now()))
		time.Sleep(20 * time.Second)
	}
}

func TestASilenceIsRecordedWhileItLastsAndEndsWithAReading(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		r.live(10*time.Minute, 5)
		assert.Empty(t, r.gaps())
		last := time.Now().Add(-20 * time.Second)
		time.Sleep(4 * time.Minute)
		going := r.gaps()
		require.Len(t, going, 1)
		assert.True(t, going[0].To.IsZero(), "it goes on")
		assert.Equal(t, gap.DeviceSilent, going[0].Cause)
		assert.WithinDuration(t, last.Add(time.Minute), going[0].From, 0, "a reading speaks for a minute")
		sum, ok := r.summary(last.Truncate(time.Minute))
		assert.True(t, ok, "the last window is closed by time, not by the next reading")
		assert.EqualValues(t, 3, sum.Count)

		time.Sleep(time.Duration(rounds.Of(2)) * 24 * time.Hour)
		require.Len(t, r.gaps(), 1)
		back := time.Now()
		r.live(time.Minute, 6)
		ended := r.gaps()
		require.Len(t, ended, 1)
		assert.WithinDuration(t, back, ended[0].To, 0)
		assert.Equal(t, going[0].ID, ended[0].ID)

		require.NoError(t, r.give(map[time.Duration]float64{0: 7}, back.Add(-24*time.Hour))) // it had kept one
		parts := r.gaps()
		require.Len(t, parts, 2)
		assert.WithinDuration(t, back.Add(-24*time.Hour), parts[0].To, 0)
		assert.WithinDuration(t, back.Add(-24*time.Hour+time.Minute), parts[1].From, 0)

		versions, err := r.store.Gaps.Since(0, 10)
		require.NoError(t, err)
		require.Len(t, versions, 2)
		assert.EqualValues(t, 3, versions[0].Version, "begun, ended, split")
	})
}

func TestAGapThatLateReadingsFillIsNone(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		require.NoError(t, r.give(map[time.Duration]float64{0: 5, 10 * time.Minute: 5}, anHourAgo))
		require.Len(t, r.gaps(), 1)
		late := map[time.Duration]float64{}
		for m := range 10 {
			late[time.Duration(m)*time.Minute] = 4
		}
		require.NoError(t, r.give(late, anHourAgo))
		assert.Empty(t, r.gaps())
		versions, err := r.store.Gaps.Since(0, 10)
		require.NoError(t, err)
		require.Len(t, versions, 1)
		assert.True(t, versions[0].Removed, "other stores learn that it is none")
	})
}

func TestGapsSayWhatMadeThem(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		r.live(time.Minute, 5)
		off := time.Now()
		r.stop()
		require.NoError(t, r.store.Close())
		time.Sleep(time.Hour)
		r.start()
		r.live(time.Minute, 5)
		r.live(10*time.Minute, 21) // above the range
		r.live(time.Minute, 5)

		down := time.Now()
		time.Sleep(30 * time.Minute)
		require.NoError(t, r.store.Links.Save([]*records.Outage{{Link: "source own", Began: down, Ended: time.Now(), Reason: "connection refused"}},
			nil, records.Run{From: down, To: time.Now()}))
		r.live(time.Minute, 5)

		r.pipe.ExplainAbsence(func(source, place string, from, to int64) []gap.Episode {
			return []gap.Episode{{From: from, To: to, Cause: gap.UnitAbsent, Detail: source + " " + place}}
		})
		time.Sleep(30 * time.Minute)
		r.live(time.Minute, 5)

		r.store.End([]series.Path{path}, time.Now().UnixNano())
		time.Sleep(time.Hour)
		r.live(time.Minute, 5)

		found := r.gaps()
		require.Len(t, found, 5)
		for i, want := range []struct {
			cause  gap.Cause
			detail string
		}{
			{gap.GatewayOff, "off from "}, {gap.RejectedRule, "range"}, {gap.SourceDown, "own: connection refused"},
			{gap.UnitAbsent, "own p"}, {gap.DeviceOff, ""},
		} {
			assert.Equal(t, want.cause, found[i].Cause, i)
			assert.Contains(t, found[i].Detail, want.detail)
			assert.False(t, found[i].To.IsZero())
		}
		assert.WithinDuration(t, off.Add(40*time.Second), found[0].From, time.Second)
	})
}

func TestAGapOfADiskThatCannotBeWrittenIsItsOwn(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		r.live(time.Minute, 5)
		m := r.pipe.committer.gaps.matters
		set := func(failing func() (string, time.Time)) {
			m.mu.Lock()
			defer m.mu.Unlock()
			m.failing = failing
		}
		set(func() (string, time.Time) { return "no space left on device", anHourAgo.Add(time.Hour + time.Minute) })
		time.Sleep(10 * time.Minute)
		set(r.pipe.writer.failing)
		require.NoError(t, r.give(map[time.Duration]float64{0: 5}, time.Now()))
		found := r.gaps()
		require.Len(t, found, 1)
		assert.Equal(t, gap.DiskFull, found[0].Cause)
		assert.Equal(t, "no space left on device", found[0].Detail)
	})
}

func TestWhileThereIsNoRoomSendersWaitAndWhatIsHereIsSummarised(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		r.live(time.Minute, 5)
		last := time.Now().Add(-20 * time.Second)
		r.store.Hold("the disk has 90 MB left, and room keeps 100 MB of it free")
		done := make(chan error, 1)
		go func() { done <- r.give(map[time.Duration]float64{0: 6}, time.Now()) }()
		time.Sleep(time.Duration(rounds.Of(2)) * 24 * time.Hour)
		assert.Contains(t, r.pipe.Trouble(), "the disk has 90 MB left")
		_, ok := r.summary(last.Truncate(time.Minute))
		assert.True(t, ok, "its summary is made")
		require.Empty(t, done, "the sender waits")
		r.store.Hold("")
		require.NoError(t, <-done)
		r.live(time.Minute, 5)
		assert.Empty(t, r.pipe.Trouble())
		found := r.gaps()
		require.NotEmpty(t, found)
		assert.Equal(t, gap.DiskFull, found[len(found)-1].Cause)
	})
}
