package overhttp

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

// together runs a test with a central and a site in virtual time.
func together(t *testing.T, test func(t *testing.T, o *office, s *site)) {
	synctest.Test(t, func(t *testing.T) {
		dir := memory(t)
		o := newOffice(t, filepath.Join(dir, "central.db"))
		s := newSite(t, filepath.Join(dir, "gateway.db"), o)
		test(t, o, s)
		assert.NoError(t, s.store.Close())
		o.stop()
	})
}

func TestWhateverTheNetworkDoesEverySummaryArrives(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		o.spoil = func(n int) string { return []string{"drop", "lose answer", "fail", "", "lose answer"}[n%5] }
		s.roll(10)
		stop := s.run()
		for range 20 {
			s.roll(3)
			time.Sleep(time.Second)
		}
		time.Sleep(time.Minute)
		stop()
		assert.Zero(t, s.waiting())
		assert.Equal(t, 70, o.count())
		assert.Positive(t, s.sender.Tally().Failures)
		assert.Zero(t, s.sender.Tally().Refills, "lost answers are no reason to send everything again")
	})
}

// A crash right after the definition changed must not leave the central with the old one.
func TestADefinitionThatChangesIsSentByItself(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		s.roll(5)
		_, err := s.sender.SendOnce(t.Context())
		require.NoError(t, err)
		require.NoError(t, s.store.Seal(t.Context(), engine.Sealing{}))
		def := oxygen
		def.Labels, def.FreshFor = "depth=3m", time.Hour
		_, err = s.store.Redefine(t.Context(), []series.Definition{def})
		require.NoError(t, err)
		again := newSite(t, copyStore(t, s.store, memory(t)), o)
		_, err = again.sender.SendOnce(t.Context())
		require.NoError(t, err)
		known, ok := o.store.Find(oxygen.Path)
		require.True(t, ok)
		def.Tiers, err = series.MakeTiers(settings.Tiers) // which are sent
		require.NoError(t, err)
		assert.Equal(t, def, known.Definition)
		assert.Equal(t, 5, o.count())
		assert.Zero(t, again.waiting())
		_, err = s.store.Redefine(t.Context(), []series.Definition{known.Definition, def})
		require.NoError(t, err)
		require.NoError(t, again.store.Close())
	})
}

func TestWhatIsMarkedSurvivesACrashAndASeal(t *testing.T) {
	for _, sealed := range []bool{false, true} {
		together(t, func(t *testing.T, o *office, s *site) {
			s.roll(5)
			if sealed {
				require.NoError(t, s.store.Seal(t.Context(), engine.Sealing{}))
			}
			copied := copyStore(t, s.store, memory(t))
			again := newSite(t, copied, o)
			assert.Equal(t, 5, again.waiting())
			_, err := again.sender.SendOnce(t.Context())
			require.NoError(t, err)
			assert.Zero(t, again.waiting())
			require.NoError(t, again.store.Seal(t.Context(), engine.Sealing{}))
			last := newSite(t, copyStore(t, again.store, memory(t)), o)
			assert.Zero(t, last.waiting(), "and what was acknowledged before a seal is not sent again")
			require.NoError(t, again.store.Close())
			require.NoError(t, last.store.Close())
			assert.Equal(t, 5, o.count())
		})
	}
}

// copyStore copies a store's files as they are now, as a crash or a backup would find them.
func copyStore(t *testing.T, st *store.Store, folder string) string {
	return copyFiles(t, st.Path(), folder)
}

func copyFiles(t *testing.T, from, folder string) string {
	to := filepath.Join(folder, "copy.db")
	for _, part := range []string{"", "-wal", "-watermark"} {
		data, err := os.ReadFile(from + part)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(to+part, data, 0o600))
	}
	return to
}

func TestACentralThatLostItsDiskGetsEverythingAgain(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		s.roll(40)
		require.NoError(t, s.store.Seal(t.Context(), engine.Sealing{}))
		stop := s.run()
		time.Sleep(time.Minute)
		assert.Equal(t, 40, o.count())
		o.stop()
		o.open(filepath.Join(memory(t), "new.db"))
		s.roll(2)
		time.Sleep(time.Minute)
		stop()
		assert.Equal(t, 42, o.count())
		assert.EqualValues(t, 1, s.sender.Tally().Refills)
	})
}

func TestACentralThatLosesEverythingAgainAndAgainIsNotFlooded(t *testing.T) {
	rounds.Alone(t)
	together(t, func(t *testing.T, o *office, s *site) {
		s.roll(50)
		stop := s.run()
		begun := time.Now()
		for time.Since(begun) < 2*time.Hour { // its disk keeps nothing
			time.Sleep(2 * time.Minute)
			o.stop()
			o.open(filepath.Join(memory(t), "new.db"))
		}
		refills := s.sender.Tally().Refills
		assert.GreaterOrEqual(t, refills, uint64(4))
		assert.LessOrEqual(t, refills, uint64(9), "after 1, 2, 4 … minutes")
		assert.Contains(t, s.sender.Tally().LastError, "the central says again that it lost what it had acknowledged")
		time.Sleep(3 * time.Hour)
		stop()
		assert.Zero(t, s.waiting(), "and in the end it has everything")
		assert.Equal(t, 50, o.count())
	})
}

func TestAnUplinkThatComesBackBeginsWithEverything(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		s.roll(5)
		_, err := s.sender.SendOnce(t.Context())
		require.NoError(t, err)
		require.NoError(t, s.store.Outboxes.Forget(nil))
		s.roll(3) // while it is not there
		require.NoError(t, s.store.Seal(t.Context(), engine.Sealing{}))
		s.connect(settings, o)
		for s.waiting() > 0 {
			_, err := s.sender.SendOnce(t.Context())
			require.NoError(t, err)
		}
		assert.Equal(t, 8, o.count(), "no gap is left")
		wider := settings
		wider.Tiers = series.Tiers{}.All()
		s.connect(wider, o)
		assert.Positive(t, s.waiting(), "so with a tier that was not sent before")
	})
}

func TestASeriesThatIsRefusedDoesNotHoldUpTheOthers(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		_, err := o.store.Define(t.Context(), []series.Definition{{
			Path:     "long-mere/mast/gusts",
			Kind:     series.Counter,
			FreshFor: time.Minute,
		}})
		require.NoError(t, err)
		s.rollOf(series.Definition{Path: "long-mere/mast/gusts", Kind: series.Gauge, FreshFor: time.Minute}, 4)
		s.roll(6)
		stop := s.run()
		time.Sleep(10 * time.Second)
		assert.Equal(t, 6, o.count())
		refused := s.sender.Outbox().Refused()
		require.Len(t, refused, 1)
		assert.Equal(t, series.Path("long-mere/mast/gusts"), refused[0].Series)
		assert.Contains(t, refused[0].Reason, "was recorded as a counter")
		assert.Equal(t, 4, refused[0].Rows)
		assert.True(t, s.sender.Tally().Up)
		s.roll(2)
		time.Sleep(10 * time.Second)
		stop()
		assert.Equal(t, 8, o.count())
		assert.Equal(t, 4, s.waiting(), "what is refused stays marked")
	})
}

func TestOneSeriesThatCannotBeReadIsFoundAmongAHundred(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		o.cannot = "long-mere/mast/gust-40"
		for i := range 100 {
			s.rollOf(series.Definition{
				Path:     series.Path(fmt.Sprintf("long-mere/mast/gust-%02d", i)),
				Kind:     series.Gauge,
				FreshFor: time.Minute,
			}, 50)
		}
		stop := s.run()
		time.Sleep(5 * time.Minute)
		stop()
		assert.Equal(t, 99*50, o.count())
		refused := s.sender.Outbox().Refused()
		require.Len(t, refused, 1)
		assert.EqualValues(t, o.cannot, refused[0].Series)
		assert.Contains(t, refused[0].Reason, "a summary cannot be read")
		assert.Equal(t, 50, refused[0].Rows)
	})
}

func TestTwoUnderOneNameAreToldApart(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		twin := newSite(t, filepath.Join(memory(t), "twin.db"), o)
		s.roll(1)
		stop := s.run()
		time.Sleep(10 * time.Second)
		twin.minute = 100
		twin.roll(1)
		stopTwin := twin.run()
		time.Sleep(30 * time.Second)
		assert.True(t, twin.sender.Tally().Up, "the one that began last")
		assert.False(t, s.sender.Tally().Up)
		assert.Contains(t, s.sender.Tally().LastError, "another process sends under this gateway's name")
		assert.Contains(t, twin.sender.Tally().Twin, "another process sends under the same name, from a test")
		assert.Contains(t, o.receiver.Links()[0].Twin, "another process sends under the same name")
		stopTwin()
		time.Sleep(5 * time.Minute)
		assert.True(t, s.sender.Tally().Up, "it may again once the other has long been silent")
		assert.Empty(t, o.receiver.Links()[0].Twin)
		stop()
		require.NoError(t, twin.store.Close())
	})
}

func TestOverASlowLinkThePresentDoesNotWaitForThePast(t *testing.T) {
	rounds.Alone(t)
	together(t, func(t *testing.T, o *office, s *site) {
		o.rate = 8 << 10 // 64 kbit/s
		thisMinute := func() int64 { return time.Now().Unix() / 60 }
		rolled := 200_000
		s.minute = thisMinute() - int64(rolled)
		s.roll(rolled)
		require.NoError(t, s.store.Seal(t.Context(), engine.Sealing{}))
		stop := s.run()
		synctest.Wait() // the past is on its way before the present comes
		late := time.Duration(0)
		for s.waiting() > 500 {
			s.minute = max(s.minute, thisMinute())
			s.roll(1)
			rolled++
			made, before := time.Now(), s.minute-1
			for !o.has(before) {
				time.Sleep(time.Second)
				require.Less(t, time.Since(made), 5*time.Minute)
			}
			late = max(late, time.Since(made))
			time.Sleep(time.Minute)
		}
		time.Sleep(time.Minute)
		stop()
		assert.Less(t, late, 45*time.Second)
		assert.Less(t, o.largest, 256<<10)
		assert.Equal(t, rolled, o.count())
		assert.Zero(t, s.sender.Tally().Failures)
	})
}

func (o *office) has(minute int64) bool {
	rows, err := o.store.Read(context.Background(), 1, series.Minute, minute*int64(time.Minute),
		minute*int64(time.Minute)+1)
	require.NoError(o.t, err)
	return rows.Len() == 1
}

func TestAWrongTokenIsSaidAndNothingIsLost(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		s.carrier.settings.Token = "salmon"
		s.roll(3)
		stop := s.run()
		time.Sleep(time.Minute)
		stop()
		assert.False(t, s.sender.Tally().Up)
		assert.Contains(t, s.sender.Tally().LastError, "the token is missing or not known here")
		assert.Equal(t, 3, s.waiting())
	})
}

func TestRetentionSparesWhatWasNotSentUnlessTold(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		s.roll(100)
		require.NoError(t, s.store.Seal(t.Context(), engine.Sealing{}))
		end := time.Unix(0, 200*int64(time.Minute))
		gone, err := s.store.Drop(t.Context(), 1, series.Minute, end, time.Time{})
		require.NoError(t, err)
		assert.Zero(t, gone, "all of it waits")
		gone, err = s.store.Drop(t.Context(), 1, series.TenSecond, end, time.Time{})
		require.NoError(t, err)
		assert.Equal(t, 100, gone, "of a tier that is not sent")
		gone, err = s.store.Drop(t.Context(), 1, series.Minute, end, end)
		require.NoError(t, err)
		assert.Equal(t, 100, gone)
		assert.EqualValues(t, 100, s.sender.Outbox().Backlog().GivenUp, "and says what was given up")
		found, err := s.store.Gaps.Between(time.Unix(0, 0), end, nil)
		require.NoError(t, err)
		require.Len(t, found, 1, "and since when the central lacks what")
		assert.Equal(t, gap.GivenUp, found[0].Cause)
		assert.Equal(t, "1m", found[0].Of)
		assert.False(t, found[0].To.Before(end))
		assert.Zero(t, s.waiting())
	})
}

func TestSketchesAreSentAndSentAgain(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		def := oxygen
		def.Sketch = true
		ids, err := s.store.Define(t.Context(), []series.Definition{def})
		require.NoError(t, err)
		sk := sketch.New()
		require.NoError(t, sk.Add(9.5))
		var kept []engine.Sketch
		for i := range int64(30) {
			kept = append(kept, engine.Sketch{Series: ids[0], Start: i * int64(series.Quarter), Data: sk.Bytes()})
		}
		require.NoError(t, s.store.Append(t.Context(), engine.Batch{Sketches: kept}))
		again := newSite(t, copyStore(t, s.store, memory(t)), o) // they were not sealed: the journal says which there are
		stop := again.run()
		time.Sleep(time.Minute)
		got, err := o.store.Sketches(t.Context(), 1, 0, 1<<62, 100)
		require.NoError(t, err)
		assert.Len(t, got, 30)
		o.stop()
		o.open(filepath.Join(memory(t), "new.db"))
		time.Sleep(time.Minute)
		stop()
		got, err = o.store.Sketches(t.Context(), 1, 0, 1<<62, 100)
		require.NoError(t, err)
		assert.Equal(t, kept, got)
		require.NoError(t, again.store.Close())
	})
}

// What waits of tiers that an uplink does not send any more is forgotten, and nothing is refused.
func TestWhatAnUplinkSendsNoMoreDoesNotWait(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		both := settings
		both.Tiers = nil
		s.connect(both, o)
		s.roll(30)
		require.NoError(t, s.store.Seal(t.Context(), engine.Sealing{})) // which saves the marks
		require.Equal(t, 60, s.waiting())
		s.connect(settings, o)
		stop := s.run()
		time.Sleep(time.Minute)
		stop()
		assert.Zero(t, s.waiting())
		assert.Empty(t, s.sender.Outbox().Refused())
		assert.Equal(t, 30, o.count())
	})
}
