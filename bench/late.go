package main

import (
	"context"
	"path/filepath"
	"slices"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

const (
	lateSeries = 1000
	lateRounds = 450                    // seconds of 1 Hz
	lateEvery  = 100 * time.Millisecond // from one round to the next
	lateShare  = 100                    // one reading in so many is late
	latePast   = 30 * 24 * time.Hour
)

// lateReadings returns what a gateway of 1,000 series at 1 Hz writes for each reading that comes up to 30 days late,
// when one in a hundred does, and for how long acknowledgements wait, beside the same without late ones.
func lateReadings(dir string) ([]Row, error) {
	st, err := openStore(filepath.Join(dir, "late.db"))
	if err != nil {
		return nil, err
	}
	defer st.Close()
	pipe, stop, err := collecting(st)
	if err != nil {
		return nil, err
	}
	begin := time.Now().Add(-4 * lateRounds * time.Second).Truncate(time.Second)
	if err := lateHistory(pipe, begin); err != nil {
		return nil, err
	}
	var bytes [2]float64
	var waits [2][]time.Duration
	for i := range 4 { // without, with, without, with
		written, waited, err := lateRun(st, pipe, begin.Add(time.Duration(i)*lateRounds*time.Second), i%2 == 1)
		if err != nil {
			return nil, err
		}
		bytes[i%2] += written / 2
		waits[i%2] = append(waits[i%2], waited...)
	}
	p99 := func(all []time.Duration) float64 {
		slices.Sort(all)
		return all[len(all)*99/100].Seconds()
	}
	if err := stop(); err != nil {
		return nil, err
	}
	const late = lateSeries * lateRounds / lateShare
	each := (bytes[1] - bytes[0]) / late
	with, without := p99(waits[1]), p99(waits[0])
	return []Row{
		{
			Name: "late_bytes", Unit: "bytes/late reading", Ours: each, Reference: "written for a reading that is not late",
			ReferenceValue: bytes[0] / lateSeries / lateRounds, Ratio: each / (bytes[0] / lateSeries / lateRounds),
			Goal: "<= 4000 bytes", Met: each <= 4000,
		},
		{
			Name: "late_ack", Unit: "ms, 99 of 100", Ours: with * 1000, Reference: "none is late",
			ReferenceValue: without * 1000, Ratio: with / without, Goal: "<= 2", Met: with <= 2*without,
		},
	}, nil
}

// lateHistory gives each series a reading every half an hour of the days before.
func lateHistory(pipe *pipeline.Pipeline, until time.Time) error {
	var history []reading.Reading
	for _, p := range many(lateSeries) {
		for at := until.Add(-latePast); at.Before(until); at = at.Add(30 * time.Minute) {
			history = append(history, lateReading(p, at))
		}
	}
	results := make(chan error)
	sent := 0
	for part := range slices.Chunk(history, 2000) {
		sent++
		pipe.Submit(&pipeline.Delivery{Readings: part, Done: func(err error) { go func() { results <- err }() }})
	}
	for range sent {
		if err := <-results; err != nil {
			return err
		}
	}
	return summarised(pipe)
}

func lateReading(path string, at time.Time) reading.Reading {
	return reading.Reading{
		Path: series.Path(path), Time: at.UnixNano(), Value: float64(at.UnixNano()/1e9%4000) / 100, From: &reading.Origin{},
	}
}

// lateRun takes in the rounds, and ends when all is summarised and sealed.
func lateRun(st *store.Store, pipe *pipeline.Pipeline, begin time.Time, late bool) (bytes float64, waits []time.Duration, err error) {
	if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
		return 0, nil, err
	}
	before, err := spentSoFar()
	if err != nil {
		return 0, nil, err
	}
	paths := many(lateSeries)
	done := make(chan error, lateRounds)
	waits = make([]time.Duration, lateRounds)
	tick := time.NewTicker(lateEvery)
	defer tick.Stop()
	for k := range lateRounds {
		now := begin.Add(time.Duration(k) * time.Second)
		d := &pipeline.Delivery{}
		for i, p := range paths {
			d.Readings = append(d.Readings, lateReading(p, now))
			if n := k*lateSeries + i; late && n%lateShare == k%lateShare {
				past := time.Duration(n) * 7919 * time.Second % latePast
				d.Readings = append(d.Readings, lateReading(p, now.Add(-past-time.Millisecond)))
			}
		}
		sent := <-tick.C
		d.Done = func(err error) { waits[k] = time.Since(sent); done <- err }
		pipe.Submit(d)
	}
	for range lateRounds {
		if err := <-done; err != nil {
			return 0, nil, err
		}
	}
	if err := summarised(pipe); err != nil {
		return 0, nil, err
	}
	if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
		return 0, nil, err
	}
	after, err := spentSoFar()
	return after.written - before.written, waits, err
}
