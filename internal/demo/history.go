package demo

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/service"
	"nexocumula/internal/sim"
	"nexocumula/internal/store"
	"nexocumula/internal/store/records"
)

const (
	historyEvery = time.Minute
	historySlice = 12 * time.Hour // is summarised at once
	historyPart  = time.Hour      // of all series, in one delivery
)

// writeHistory gives a gateway the readings its stations would have brought in the
// days before now, one a minute, through its pipeline and uplink, and returns how many
// there were once all are on disk. The gateway runs without its sources meanwhile, so
// that the live readings come after.
func (w *World) writeHistory(ctx context.Context, o Options, settings config.Settings) (total int, err error) {
	quiet := *settings.Gateway
	quiet.Sources = nil
	settings.Gateway = &quiet
	until := time.Now().Truncate(historyEvery)
	from := until.Add(-time.Duration(o.Days) * 24 * time.Hour)
	if err := hadRun(settings.Data, from, until, o); err != nil {
		return 0, err
	}
	g, err := service.Open(settings, o.Version, o.Log.With("service", quiet.Site))
	if err != nil {
		return 0, err
	}
	runCtx, stop := context.WithCancel(ctx)
	stopped := make(chan error, 1)
	go func() { stopped <- g.Run(runCtx) }()
	defer func() {
		stop()
		err = errors.Join(err, <-stopped)
	}()
	quantities := w.field.Quantities(quiet.Site)
	for at := from; at.Before(until); at = at.Add(historySlice) {
		n, err := writeSlice(g.Gateway.Pipe, quiet.Site, quantities, at, at.Add(min(historySlice, until.Sub(at))))
		if err != nil {
			return total, fmt.Errorf("writing history of %s: %w", quiet.Site, err)
		}
		total += n
		if err := g.Gateway.Pipe.RollNow(ctx); err != nil {
			return total, fmt.Errorf("summarising history of %s: %w", quiet.Site, err)
		}
	}
	return total, nil
}

// hadRun notes that the gateway ran all the time, so that a device that was silent then was that.
func hadRun(data string, from, until time.Time, o Options) error {
	kept, err := store.Open(filepath.Join(data, service.StoreFile), o.Log, store.Options{})
	if err != nil {
		return err
	}
	err = kept.Links.Save(nil, nil, records.Run{From: from, To: until})
	return errors.Join(err, kept.Close())
}

// writeSlice delivers the readings in order of time, as derived series need those of others at their own time.
func writeSlice(pipe *pipeline.Pipeline, site string, quantities []sim.Quantity, from, until time.Time) (total int, err error) {
	paths := make([]series.Path, len(quantities))
	for i, q := range quantities {
		if paths[i], err = series.ParsePath(site + "/" + q.Series); err != nil {
			return 0, err
		}
	}
	parts := int((until.Sub(from) + historyPart - 1) / historyPart)
	written := make(chan error, parts)
	for ; from.Before(until); from = from.Add(historyPart) {
		d := &pipeline.Delivery{Done: func(err error) { written <- err }}
		for t := from; t.Before(until) && t.Before(from.Add(historyPart)); t = t.Add(historyEvery) {
			for i, q := range quantities {
				if v, ok := q.At(t); ok {
					from := &reading.Origin{
						Source: "history",
						Place:  q.Series,
						Raw:    strconv.AppendFloat(nil, v, 'g', -1, 64),
					}
					d.Readings = append(d.Readings, reading.Reading{
						Path:  paths[i],
						Time:  t.UnixNano(),
						Value: v,
						From:  from,
					})
				}
			}
		}
		total += len(d.Readings)
		pipe.Submit(d)
	}
	for range parts {
		err = errors.Join(err, <-written)
	}
	return total, err
}
