package main

import (
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/simonvetter/modbus"
	"golang.org/x/sync/errgroup"

	"nexocumula/internal/gateway/modbus/planner"
)

// pollers returns a gateway with so many lines to one device of so many units, each with
// registers that are not neighbours, read one by one.
func pollers(dir, address string, lines, units, registers int, every, more string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "data: %s\nlisten: 127.0.0.1:0\ngateway:\n  site: bench\n  sources:\n", dir)
	for line := range lines {
		fmt.Fprintf(&out,
			"    - name: line-%d\n      modbus:\n        address: %s\n        every: %s\n        holes: never\n%s        registers:\n",
			line, address, every, more)
		for unit := range units {
			for r := range registers {
				fmt.Fprintf(&out,
					"          - { unit: %d, table: holding, address: %d, series: line-%d-unit-%d/r%d }\n", unit+1,
					2*r, line, unit, r)
			}
		}
	}
	return out.String()
}

// lateness returns the worst of the lines' 99th percentiles, in seconds.
func lateness(text string, length time.Duration) (late float64, err error) {
	s, stop, err := startGateway(text)
	if err != nil {
		return 0, err
	}
	time.Sleep(length)
	for _, source := range s.Gateway.Sources() {
		if len(source.Line.Groups) == 0 || source.Readings == 0 {
			err = fmt.Errorf("%s was not read: %s", source.Name, source.LastError)
		}
		for _, g := range source.Line.Groups {
			late = max(late, g.Late.Seconds())
		}
	}
	return late, errors.Join(err, stop())
}

const (
	manyLines, unitsPerLine = 20, 10
	silentUnits             = 3
	silentLasts             = 90 * time.Second
)

// modbusPollMany returns how late 200 units on 20 connections are read every second, and how many
// requests a second one connection makes beside the library alone.
func modbusPollMany(dir string) ([]Row, error) {
	device, err := startDevice(0, 0)
	if err != nil {
		return nil, err
	}
	late, err := lateness(pollers(filepath.Join(dir, "many"), device.address, manyLines, unitsPerLine, 1, "1s", ""),
		30*time.Second)
	if err := errors.Join(err, device.stop()); err != nil {
		return nil, err
	}
	latest := Row{
		Name:           "modbus_poll_many",
		Unit:           "ms",
		Ours:           1e3 * late,
		Reference:      "99 of 100 of 200 units every 1 s",
		ReferenceValue: 100,
		Ratio:          late / 0.1,
		Goal:           "<= 1",
		Met:            late <= 0.1,
	}
	quick, err := requestsPerSecond(dir, "modbus_requests", time.Millisecond, manyLines, 20) // as one on a network is
	if err != nil {
		return nil, err
	}
	quick.Goal, quick.Met = ">= 0.9", quick.Ratio >= 0.9
	instant, err := requestsPerSecond(dir, "modbus_requests_instant", 0, 2, 400)
	return []Row{latest, quick, instant}, err
}

// requestsPerSecond returns how many requests are made of lines that have more to ask than there is
// time for, beside as many bare loops.
func requestsPerSecond(dir, name string, takes time.Duration, lines, registers int) (Row, error) {
	device, err := startDevice(0, takes)
	if err != nil {
		return Row{}, err
	}
	var p pairs
	for round := range rounds {
		s, end, err := startGateway(pollers(filepath.Join(dir, name, fmt.Sprint(round)), device.address, lines,
			unitsPerLine, registers, "100ms", ""))
		if err != nil {
			return Row{}, err
		}
		for s.Gateway.Pipe.Accepted() < uint64(2*lines*unitsPerLine*registers) {
			time.Sleep(10 * time.Millisecond) // until every series is known
		}
		ours, err := device.rate(func() error { time.Sleep(roundLength); return nil })
		if err := errors.Join(err, end()); err != nil {
			return Row{}, err
		}
		bare, err := device.rate(func() error {
			var loops errgroup.Group
			for range lines {
				loops.Go(func() error { return bareLoop(device.address, registers) })
			}
			return loops.Wait()
		})
		if err != nil {
			return Row{}, err
		}
		p.add(ours, bare)
	}
	row := p.row("requests/s", 1, fmt.Sprintf("the protocol library in %d bare loops, answers in %s", lines, takes),
		"known", known)
	row.Name = name
	return row, device.stop()
}

func bareLoop(address string, registers int) error {
	client, err := modbus.NewClient(&modbus.ClientConfiguration{
		URL:     address,
		Timeout: time.Second,
		Logger:  log.New(io.Discard, "", 0),
	})
	if err != nil {
		return err
	}
	if err := client.Open(); err != nil {
		return err
	}
	defer client.Close()
	for n, begun := 0, time.Now(); time.Since(begun) < roundLength; n++ {
		if err := client.SetUnitId(uint8(n/registers%unitsPerLine + 1)); err != nil {
			return err
		}
		if _, err := client.ReadRegisters(uint16(2*(n%registers)), 1, modbus.HOLDING_REGISTER); err != nil {
			return err
		}
	}
	return nil
}

// modbusSilentUnits returns how late seven units are read every second while three on their line
// do not answer, from the start on.
func modbusSilentUnits(dir string) (Row, error) {
	device, err := startDevice(unitsPerLine-silentUnits+1, 0)
	if err != nil {
		return Row{}, err
	}
	late, err := lateness(pollers(dir, device.address, 1, unitsPerLine, 1, "1s", "        timeout: 1s\n"), silentLasts)
	if err := errors.Join(err, device.stop()); err != nil {
		return Row{}, err
	}
	return Row{
		Unit:           "s",
		Ours:           late,
		Reference:      "period of the units that answer, and of one timeout",
		ReferenceValue: 1,
		Ratio:          late,
		Goal:           "<= 1.2",
		Met:            late <= 1.2,
	}, nil
}

// plannerRequests returns how many requests random maps take once the planner has learned what
// the device refuses, over the fewest possible.
func plannerRequests(string) (Row, error) {
	random := rand.New(rand.NewPCG(7, 7))
	now := time.Now()
	asked, least := 0, 0
	for range 1000 {
		wish := planner.Wish{Longest: 125, Holes: true, Request: 1, Word: 1e-6}
		most, refused := 4+random.IntN(122), map[int]bool{}
		values := 2 + random.IntN(100)
		for at := random.IntN(200); len(wish.Values) < values; {
			v := planner.Value{First: at, Words: []int{1, 1, 2, 2, 4}[random.IntN(5)]}
			wish.Values = append(wish.Values, v)
			hole := []int{0, 0, 0, 1, 2, 5, 10, 40}[random.IntN(8)]
			for a := v.First + v.Words; random.IntN(3) == 0 && a < v.First+v.Words+hole; a++ {
				refused[a] = true
			}
			at = v.First + v.Words + hole
		}
		gives := func(first, end int) bool {
			for a := first; a < end; a++ {
				if refused[a] {
					return false
				}
			}
			return end-first <= most
		}
		facts := &planner.Facts{}
		requests := 0
		for range 60 {
			requests = pollOnce(wish, facts, gives, now)
		}
		asked += requests
		least += fewest(wish.Values, gives)
	}
	return Row{
		Unit:           "requests",
		Ours:           float64(asked),
		Reference:      "the fewest possible, by trying every split",
		ReferenceValue: float64(least),
		Ratio:          float64(asked) / float64(least),
		Goal:           "<= 1.05",
		Met:            float64(asked) <= 1.05*float64(least),
	}, nil
}

// pollOnce reads everything, as the poller would.
func pollOnce(wish planner.Wish, facts *planner.Facts, gives func(first, end int) bool, now time.Time) (requests int) {
	var ask func(r planner.Read, trial bool)
	ask = func(r planner.Read, trial bool) {
		requests++
		if gives(r.First, r.First+r.Count) {
			facts.DidGive(r)
			return
		}
		facts.DidRefuse(r, now)
		if len(r.Values) == 1 || trial {
			return
		}
		halves, over := wish.Halves(r, facts)
		ask(halves[0], false)
		ask(halves[1], false)
		if over != nil {
			ask(*over, true)
		}
	}
	for _, r := range wish.Reads(facts, now) {
		ask(r, false)
	}
	return requests
}

// fewest returns the least number of reads that give all values, for the values from the front on.
func fewest(values []planner.Value, gives func(first, end int) bool) int {
	sorted := slices.SortedFunc(slices.Values(values), func(a, b planner.Value) int { return a.First - b.First })
	best := make([]int, len(sorted)+1)
	for i := range sorted {
		best[i+1] = 1 << 30
		for j := i; j >= 0; j-- {
			if gives(sorted[j].First, sorted[i].First+sorted[i].Words) || j == i {
				best[i+1] = min(best[i+1], best[j]+1)
			}
		}
	}
	return best[len(sorted)]
}
