package access

import (
	"net/netip"
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
	before map[string]*failures // those that failed before failed was full the last time
}

type failures struct {
	count int
	last  time.Time
}

const (
	mostFailed = 10_000    // places that are remembered twice over, so that guessing takes no memory
	forgotten  = time.Hour // after the last failure

	freeOfAccount, freeOfAddress       = 10, 5
	longestOfAccount, longestOfAddress = time.Minute, 5 * time.Minute
)

func newDelays(now func() time.Time) *delays {
	return &delays{now: now, failed: map[string]*failures{}, before: map[string]*failures{}}
}

// left returns how long an attempt has to wait. Codes and passkeys are of no account yet, and nobody
// guesses one: there only the address waits, lest a stranger keep everybody from using them.
func (d *delays) left(account, address string, known bool) time.Duration {
	d.mu.Lock()
	defer d.mu.Unlock()
	address = network(address)
	if known {
		return d.of("both "+account+" "+address, freeOfAddress, longestOfAccount)
	}
	wait := d.of("address "+address, freeOfAddress, longestOfAddress)
	if account != "" {
		wait = max(wait, d.of("account "+account, freeOfAccount, longestOfAccount))
	}
	return wait
}

func (d *delays) of(place string, free int, longest time.Duration) time.Duration {
	f := d.find(place)
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
	address = network(address)
	places := []string{"address " + address}
	if account != "" {
		places = append(places, "account "+account, "both "+account+" "+address)
	}
	for _, place := range places {
		f := d.find(place)
		if f == nil {
			f = &failures{}
		}
		if len(d.failed) >= mostFailed {
			d.failed, d.before = map[string]*failures{}, d.failed
		}
		d.failed[place] = f
		if d.now().Sub(f.last) > forgotten {
			f.count = 0
		}
		f.count++
		f.last = d.now()
	}
}

func (d *delays) find(place string) *failures {
	if f := d.failed[place]; f != nil {
		return f
	}
	return d.before[place]
}

// forget forgets what failed before somebody got in.
func (d *delays) forget(account, address string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	address = network(address)
	for _, place := range []string{"account " + account, "both " + account + " " + address} {
		delete(d.failed, place)
		delete(d.before, place)
	}
}

// network returns the address block of one party: for IPv6 its /64.
func network(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil || ip.Unmap().Is4() {
		return address
	}
	prefix, err := ip.WithZone("").Prefix(64)
	if err != nil {
		return address
	}
	return prefix.String()
}
