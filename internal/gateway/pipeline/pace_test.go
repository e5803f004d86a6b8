package pipeline

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"nexocumula/internal/config"
)

// play gives deliveries at their times to a waiting and commits when it says so; what
// comes back is how many deliveries each commit had, and the longest that any waited.
func play(deliveries []*Delivery) (commits []int, longest time.Duration) {
	w := &waiting{pace: config.CommitDelay{Messages: 100 * time.Millisecond, Polls: time.Second}}
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for len(deliveries) > 0 || len(w.all) > 0 {
		due := w.due()
		if len(deliveries) > 0 && (len(w.all) == 0 || !due.Before(deliveries[0].came)) {
			now = deliveries[0].came
			w.add(deliveries[0])
			deliveries = deliveries[1:]
			continue
		}
		if now.Before(due) {
			now = due
		}
		for _, d := range w.all {
			longest = max(longest, now.Sub(d.came))
		}
		commits = append(commits, len(w.take(now)))
	}
	return commits, longest
}

// every is n deliveries at a distance, from so many senders in turn.
func every(distance time.Duration, n, senders int) (out []*Delivery) {
	at := time.Date(2026, 3, 1, 0, 0, 1, 0, time.UTC)
	for i := range n {
		out = append(out, &Delivery{Sender: i % senders, came: at.Add(time.Duration(i) * distance)})
	}
	return out
}

func TestALoneSenderIsAnsweredAtOnce(t *testing.T) {
	for _, distance := range []time.Duration{time.Millisecond, 20 * time.Millisecond, time.Second} {
		commits, longest := play(every(distance, 50, 1))
		assert.Len(t, commits, 50)
		assert.Zero(t, longest)
	}
	_, longest := play(every(time.Second, 50, 10))
	assert.Zero(t, longest, "many that seldom speak")
}

func TestHeapsOfABusyMachineAreNotACommitEach(t *testing.T) {
	var all []*Delivery
	for i := range 400 { // five messages at a time, two hundred times a second
		for k, d := range every(10*time.Microsecond, 5, 5) {
			d.came = d.came.Add(time.Duration(i) * 5 * time.Millisecond)
			d.Sender = k
			all = append(all, d)
		}
	}
	commits, longest := play(all)
	assert.LessOrEqual(t, len(commits), 42)
	assert.LessOrEqual(t, longest, 100*time.Millisecond)
}

func TestManySendersShareCommitsWithinThePace(t *testing.T) {
	commits, longest := play(every(time.Millisecond, 5000, 1000))
	assert.LessOrEqual(t, len(commits), 52, "ten a second")
	assert.LessOrEqual(t, longest, 100*time.Millisecond)
	commits, longest = play(every(20*time.Millisecond, 500, 50))
	assert.LessOrEqual(t, len(commits), 110)
	assert.LessOrEqual(t, longest, 100*time.Millisecond)
	commits, _ = play(every(10*time.Microsecond, 10_000, 8))
	assert.LessOrEqual(t, len(commits), 10_000/fullCommit+2, "a full commit does not wait")
}

func TestSendersThatWaitForTheirAnswersAreNotHeldUp(t *testing.T) {
	all := every(50*time.Microsecond, 20, 20) // each sends one, and then waits
	_, longest := play(all)
	assert.Less(t, longest, 3*time.Millisecond)
}

func TestPollsWaitForOthersOrASecond(t *testing.T) {
	polls := every(0, 3, 1)
	for _, d := range polls {
		d.Polled, d.Sender = true, nil
	}
	commits, longest := play(polls)
	assert.Equal(t, []int{3}, commits)
	assert.Equal(t, time.Second, longest)
	message := &Delivery{Sender: 1, came: polls[0].came.Add(300 * time.Millisecond)}
	commits, longest = play(append(polls, message))
	assert.Equal(t, []int{4}, commits, "they go along with a message")
	assert.Equal(t, 300*time.Millisecond, longest)
}
