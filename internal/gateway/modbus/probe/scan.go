package probe

import (
	"context"
	"fmt"
	"time"

	"nexocumula/internal/gateway/modbus"
)

// Gentle is how a device is treated that nobody knows.
type Gentle struct {
	Pause time.Duration // between two requests
	Most  int           // requests; after so many a scan ends with what it has found
}

// asks are the requests of one scan.
type asks struct {
	asker *modbus.Asker
	how   Gentle
	made  int
}

// Enough says that a scan ended before its end.
type Enough struct{ Requests int }

func (e Enough) Error() string {
	return fmt.Sprintf("after %d requests the scan ended; what it found so far is shown: ask for a smaller range",
		e.Requests)
}

func (a *asks) ask(ctx context.Context, q modbus.Question) (modbus.Answer, error) {
	if a.made++; a.made > a.how.Most {
		return modbus.Answer{}, Enough{a.how.Most}
	}
	if a.made > 1 {
		select {
		case <-time.After(a.how.Pause):
		case <-ctx.Done():
			return modbus.Answer{}, ctx.Err()
		}
	}
	return a.asker.Ask(ctx, q)
}

// Unit is one that answered.
type Unit struct {
	ID     uint8
	Tables []string // that it gives the register or bit at the address asked for
	Says   string   // the exception of the last table it does not give
}

// Units asks the units from one to another for one value of each table, at an address. One that
// does not answer the first time is not there.
func Units(ctx context.Context, asker *modbus.Asker, from, to uint8, address int, how Gentle) (found []Unit, err error) {
	a := &asks{asker: asker, how: how}
	for id := int(from); id <= int(to); id++ {
		unit := Unit{ID: uint8(id)}
		there := false
		for i := range modbus.Tables {
			table := modbus.Tables[(i+2)%len(modbus.Tables)] // holding and input first
			got, err := a.ask(ctx, modbus.Question{Unit: unit.ID, Table: table, First: address, Count: 1})
			if err != nil {
				return found, err
			}
			if got.Silent && !there {
				break
			}
			if there = true; got.Words != nil {
				unit.Tables = append(unit.Tables, table)
			} else {
				unit.Says = got.Refusal
			}
		}
		if there {
			found = append(found, unit)
		}
	}
	return found, nil
}

// Range is registers or bits that a device gives.
type Range struct{ First, Count int }

// blockOf is how much a scan asks for at first.
const blockOf = 32

// Ranges finds which registers or bits of a table, from one to another, a unit gives. What is
// refused is asked for in halves.
func Ranges(ctx context.Context, asker *modbus.Asker, unit uint8, table string, from, to int, how Gentle) (given []Range, err error) {
	a := &asks{asker: asker, how: how}
	var look func(first, count int) error
	look = func(first, count int) error {
		got, err := a.ask(ctx, modbus.Question{Unit: unit, Table: table, First: first, Count: count})
		switch {
		case err != nil:
			return err
		case len(got.Words) >= count:
			if n := len(given); n > 0 && given[n-1].First+given[n-1].Count == first {
				given[n-1].Count += count
			} else {
				given = append(given, Range{first, count})
			}
			return nil
		case count == 1:
			return nil
		}
		half := count / 2
		if err := look(first, half); err != nil {
			return err
		}
		return look(first+half, count-half)
	}
	for first := from; first <= to; first += blockOf {
		if err := look(first, min(blockOf, to-first+1)); err != nil {
			return given, err
		}
	}
	return given, nil
}

// Read reads registers several times, at a distance.
func Read(ctx context.Context, asker *modbus.Asker, q modbus.Question, times int, every time.Duration) (out []Sample, err error) {
	for i := range times {
		if i > 0 {
			select {
			case <-time.After(every):
			case <-ctx.Done():
				return out, ctx.Err()
			}
		}
		got, err := asker.Ask(ctx, q)
		if err != nil {
			return out, err
		}
		if got.Words == nil {
			return out, fmt.Errorf("unit %d, %s %d to %d: the device answers %q; a scan of registers shows which it gives",
				q.Unit, q.Table, q.First, q.First+q.Count-1, got.Refusal)
		}
		out = append(out, Sample{time.Now().UnixNano(), got.Words})
	}
	return out, nil
}
