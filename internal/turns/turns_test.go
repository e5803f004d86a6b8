package turns

import (
	"context"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// compute keeps the turn for so long, and pauses as a query does.
func compute(t *testing.T, turn *Turn, work time.Duration) {
	for ; work > 0; work -= time.Millisecond {
		time.Sleep(time.Millisecond)
		require.NoError(t, turn.Pause(t.Context()))
	}
}

func TestShortQueriesDoNotWaitForLongOnes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := New(1, 0)
		var all sync.WaitGroup
		begun := time.Now()
		for range 4 {
			all.Go(func() {
				turn, outcome := q.Enter(t.Context(), "office", 10)
				require.Equal(t, Entered, outcome)
				compute(t, turn, 2*time.Second)
				turn.Leave()
			})
		}
		time.Sleep(time.Second)
		var took []time.Duration
		for range 100 {
			asked := time.Now()
			turn, outcome := q.Enter(t.Context(), "pump house", 10)
			require.Equal(t, Entered, outcome)
			compute(t, turn, 2*time.Millisecond)
			turn.Leave()
			took = append(took, time.Since(asked))
			time.Sleep(3 * time.Millisecond)
		}
		slices.Sort(took)
		assert.LessOrEqual(t, took[98], 2*time.Millisecond+2*Slice+time.Millisecond)
		all.Wait()
		assert.InDelta(t, 8.2, time.Since(begun).Seconds(), 0.3, "nothing is lost by it")
		assert.Equal(t, 1, q.free)
	})
}

func TestLongQueriesEndBesideManyShortOnes(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := New(1, 0)
		ctx, stop := context.WithCancel(t.Context())
		var all sync.WaitGroup
		for range 8 { // there is always one that has had nothing
			all.Go(func() {
				for ctx.Err() == nil {
					if turn, outcome := q.Enter(ctx, "pump house", 100); outcome == Entered {
						time.Sleep(2 * time.Millisecond)
						turn.Leave()
					}
				}
			})
		}
		begun := time.Now()
		turn, outcome := q.Enter(t.Context(), "office", 10)
		require.Equal(t, Entered, outcome)
		compute(t, turn, time.Second)
		turn.Leave()
		assert.Less(t, time.Since(begun), 5*time.Second)
		stop()
		all.Wait()
	})
}

func TestCallersTakeTurnsHoweverMuchOneAsks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := New(1, 0)
		first, _ := q.Enter(t.Context(), "greedy", 3)
		order := make(chan string, 10)
		wait := func(who string) {
			go func() {
				if turn, outcome := q.Enter(t.Context(), who, 3); outcome == Entered {
					order <- who
					time.Sleep(time.Millisecond)
					turn.Leave()
				}
			}()
			synctest.Wait()
		}
		for range 3 {
			wait("greedy")
		}
		wait("modest")
		_, outcome := q.Enter(t.Context(), "greedy", 3)
		assert.Equal(t, TooMany, outcome)
		first.Leave()
		got := []string{<-order, <-order}
		assert.Contains(t, got, "modest")
		assert.Equal(t, []string{"greedy", "greedy"}, []string{<-order, <-order})
		time.Sleep(time.Second)
	})
}

func TestAQueryWaitsNotForEverAndNotForAReader(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := New(1, 0)
		turn, _ := q.Enter(t.Context(), "somebody", 1)
		soon, stop := context.WithTimeout(t.Context(), time.Second)
		defer stop()
		_, outcome := q.Enter(soon, "another", 1)
		assert.Equal(t, TooLate, outcome)
		read := make(chan struct{})
		written := make(chan struct{})
		go func() {
			turn.Without(func() { <-read })
			close(written)
		}()
		other, outcome := q.Enter(t.Context(), "another", 1)
		require.Equal(t, Entered, outcome, "its turn is free meanwhile")
		close(read)
		synctest.Wait()
		other.Leave()
		<-written
		q.mu.Lock()
		assert.Zero(t, q.free, "and is taken again")
		q.mu.Unlock()

		late, end := context.WithTimeout(t.Context(), 10*time.Millisecond)
		defer end()
		go func() {
			third, _ := q.Enter(t.Context(), "third", 1)
			time.Sleep(time.Second)
			third.Leave()
		}()
		synctest.Wait()
		time.Sleep(Slice)
		assert.ErrorIs(t, turn.Pause(late), context.DeadlineExceeded)
		assert.ErrorIs(t, turn.Pause(late), context.DeadlineExceeded, "it is over")
		turn.Leave()
		time.Sleep(2 * time.Second)
		q.mu.Lock()
		defer q.mu.Unlock()
		assert.Equal(t, 1, q.free)
		assert.Empty(t, q.waiting)
	})
}

func TestWhatIsDoneBesideAQueryTakesNoTurnOfOthers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := New(1, 1)
		turn, _ := q.Enter(t.Context(), "somebody", 1)
		end := make(chan struct{})
		require.True(t, q.Beside(func() { <-end }))
		assert.False(t, q.Beside(func() { t.Error("there is one processor to spare") }))
		close(end)
		synctest.Wait()

		go func() {
			other, _ := q.Enter(t.Context(), "another", 1)
			other.Leave()
		}()
		synctest.Wait()
		assert.False(t, q.Beside(func() { t.Error("another waits") }))
		turn.Leave()
		synctest.Wait()
		ran := false
		require.True(t, q.Beside(func() { ran = true }))
		synctest.Wait()
		assert.True(t, ran)
	})
}
