package pipeline

import (
	"context"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

// sketch makes the sketches of windows of one series, each anew from its readings.
func (r *roller) sketch(ctx context.Context, s engine.Series, windows []rollup.Window) ([]engine.Sketch, error) {
	var out []engine.Sketch
	for _, w := range windows {
		rows, err := r.store.Read(ctx, s.ID, series.Readings, w.Start, w.Start+int64(series.Quarter))
		if err != nil {
			return nil, err
		}
		if rows.Len() == 0 {
			continue
		}
		if w.Start < s.ThinnedTo {
			// Of fewer readings than before it would be a wrong one; without that of a late reading, it
			// is of fewer than the summaries say, and nobody gets an estimate from it.
			if before, err := r.store.Sketches(ctx, s.ID, w.Start, w.Start+1, 1); err != nil ||
				len(before) > 0 && holdsMore(before[0].Data, rows.Len()) {
				if err != nil {
					return nil, err
				}
				continue
			}
		}
		sk := sketch.New()
		for _, v := range rows.Cols[0] {
			if err := sk.Add(v); err != nil {
				// Beyond what a sketch can hold, near the largest numbers there are. Without
				// it the sketch is not of all readings, and nobody gets an estimate from it.
				event.SketchLeftOut.To(r.log, "series", s.Path, "value", v, "error", err)
			}
		}
		out = append(out, engine.Sketch{Series: s.ID, Start: w.Start, Data: sk.Bytes()})
	}
	return out, nil
}

// holdsMore reports whether a sketch is of more than so many readings.
func holdsMore(data []byte, readings int) bool {
	sk, err := sketch.Parse(data)
	return err == nil && sk.Count() > float64(readings)
}
