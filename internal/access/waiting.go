package access

import (
	"crypto/rand"
	"sync"
	"time"
)

// waiting keeps what was begun in one request and is finished in another, for a while.
type waiting[T any] struct {
	now func() time.Time

	mu  sync.Mutex
	all map[string]waits[T]
}

type waits[T any] struct {
	until time.Time
	what  T
}

const (
	mostWaiting = 1000
	waitingFor  = 10 * time.Minute
)

func newWaiting[T any](now func() time.Time) *waiting[T] {
	return &waiting[T]{now: now, all: map[string]waits[T]{}}
}

// put keeps something and gives its name. Where too many wait, the oldest goes.
func (w *waiting[T]) put(what T) (name string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for len(w.all) >= mostWaiting {
		oldest := ""
		for n, one := range w.all {
			if oldest == "" || one.until.Before(w.all[oldest].until) {
				oldest = n
			}
		}
		delete(w.all, oldest)
	}
	name = rand.Text()
	w.all[name] = waits[T]{w.now().Add(waitingFor), what}
	return name
}

// take gives it back, once.
func (w *waiting[T]) take(name string) (what T, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	one, ok := w.all[name]
	delete(w.all, name)
	return one.what, ok && !w.now().After(one.until)
}
