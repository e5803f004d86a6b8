package access

import (
	"sync"
	"time"
)

// delays makes guessing slow: after some failures an account, and an address, have to wait,
// twice as long each time, up to a limit. Who has logged in to an account from an address
// before is not kept from it by what others do elsewhere. Nothing is locked for good: a
// pause ends by itself, and whoever has the right to the service's files can always have a
// code made.
type delays struct {
	now func() time.Time

	mu     sync.Mutex
	failed map[string]*failures
}

type failures struct {
	count int
	last  time.Time
}

const (
	mostFailed = 10_000    // places that are remembered, so that guessing takes no memory
	forgotten  = time.Hour // after the last failure

	freeOfAccount, freeOfAddress       = 10, 5
	longestOfAccount, longestOfAddress = time.Minute, 5 * time.Minute
)

func newDelays(now func() time.Time) *delays {
	return &delays{now: now, failed: map[string]*failures{}}
}

// left is how long an attempt has to wait.
func (d *delays) left(account, address string, known bool) time.Duration {
	d.mu.Lock()
	defer d.mu.Unlock()
	if known {
		return d.of("both "+account+" "+address, freeOfAddress, longestOfAccount)
	}
	return max(d.of("account "+account, freeOfAccount, longestOfAccount), d.of("address "+address, freeOfAddress, longestOfAddress))
}

func (d *delays) of(place string, free int, longest time.Duration) time.Duration {
	f := d.failed[place]
	if f == nil || f.count <= free || d.now().Sub(f.last) > forgotten {
		return 0
	}
	pause := min(longest, time.Second<<min(f.count-free-1, 20))
	return max(0, f.last.Add(pause).Sub(d.now()))
}

// fail notes that an attempt failed.
func (d *delays) fail(account, address string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, place := range []string{"account " + account, "address " + address, "both " + account + " " + address} {
		f := d.failed[place]
		if f == nil {
			d.makeRoom()
			f = &failures{}
			d.failed[place] = f
		}
		if d.now().Sub(f.last) > forgotten {
			f.count = 0
		}
		f.count++
		f.last = d.now()
	}
}

// makeRoom forgets those that failed longest ago.
func (d *delays) makeRoom() {
	if len(d.failed) < mostFailed {
		return
	}
	oldest, place := d.now(), ""
	for one, f := range d.failed {
		if d.now().Sub(f.last) > forgotten {
			delete(d.failed, one)
		} else if f.last.Before(oldest) {
			oldest, place = f.last, one
		}
	}
	if len(d.failed) >= mostFailed {
		delete(d.failed, place)
	}
}

// well forgets what failed before somebody got in.
func (d *delays) well(account, address string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.failed, "account "+account)
	delete(d.failed, "both "+account+" "+address)
}
