package wire

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
	"nexocumula/internal/plain"
)

// Run is summaries of one series at one tier, or readings of it.
type Run struct {
	Def  series.Definition
	Tier series.Tier
	Rows column.Block

	Sketches []Sketch // instead of tier and rows
}

// Sketch is the sketch of one window.
type Sketch struct {
	Start int64  `cbor:"start"`
	Data  []byte `cbor:"data"`
}

// Len returns how many windows the run is of.
func (r Run) Len() int { return r.Rows.Len() + len(r.Sketches) }

type batch struct {
	Tiers  []int64 `cbor:"tiers"` // the widths that the gateway keeps, in nanoseconds
	Series []run   `cbor:"series"`

	Records Records `cbor:"records,omitempty"`
}

type run struct {
	series.Definition            // but thinning
	Tiers             string     `cbor:"tiers,omitempty"`    // instead of those of the definition: one bad list refuses one run
	Tier              int64      `cbor:"tier"`               // nanoseconds
	Sketches          []Sketch   `cbor:"sketches,omitempty"` // instead of what follows
	Columns           []string   `cbor:"columns"`
	Starts            int64s     `cbor:"starts"` // nanoseconds since 1970
	Values            []float64s `cbor:"values"` // as columns names them
}

// Safe for concurrent use through EncodeAll and DecodeAll.
var (
	compressor = must(zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1),
		zstd.WithWindowSize(512<<10), zstd.WithLowerEncoderMem(true)))
	decompressor = must(zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderLowmem(true),
		zstd.WithDecoderMaxMemory(MaxBatch)))
)

// EncodeBatch writes runs and records as one batch; tiers are those that are sent, nil for all there are.
func EncodeBatch(runs []Run, tiers []series.Tier, records Records) ([]byte, error) {
	out := batch{Records: records}
	if tiers == nil {
		tiers = allTiers(runs)
	}
	for _, t := range tiers {
		out.Tiers = append(out.Tiers, int64(t))
	}
	for _, r := range runs {
		columns, ok := rollup.ColumnsOf(r.Def.Kind, len(r.Rows.Cols))
		if r.Tier == series.Readings && len(r.Rows.Cols) == 1 {
			columns, ok = readingColumns, true
		}
		if !ok && len(r.Sketches) == 0 {
			return nil, fmt.Errorf("encoding a batch: %s, a %s, has %d columns", r.Def.Path, r.Def.Kind,
				len(r.Rows.Cols))
		}
		one := run{Definition: r.Def, Tier: int64(r.Tier), Sketches: r.Sketches, Columns: columns, Starts: r.Rows.Times}
		one.Thinning = series.Thinning{}
		if r.Def.Tiers != (series.Tiers{}) {
			one.Tiers = r.Def.Tiers.String()
		}
		for _, col := range r.Rows.Cols {
			one.Values = append(one.Values, col)
		}
		out.Series = append(out.Series, one)
	}
	data, err := encoding.Marshal(out)
	if err != nil {
		return nil, fmt.Errorf("encoding a batch: %w", err)
	}
	return compressor.EncodeAll(data, nil), nil
}

// allTiers returns the tiers of all series and runs.
func allTiers(runs []Run) (out []series.Tier) {
	for _, r := range runs {
		out = append(out, r.Def.Tiers.All()...)
		if r.Tier != series.Readings {
			out = append(out, r.Tier)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// BadRun is one run of a batch that cannot be used.
type BadRun struct {
	Run  int // its place in the batch, from 0
	Path string
	Err  error
}

// Decoded is what of a batch can be used.
type Decoded struct {
	Runs    []Run // normalized
	At      []int // the place in the batch of Runs[i]
	Bad     []BadRun
	Records Records
}

// DecodeBatch reads and checks one batch. Runs that cannot be used are named apart. An error means that
// nothing of it can be used.
func DecodeBatch(data []byte) (out Decoded, err error) {
	plain, err := decompressor.DecodeAll(data, nil)
	if err != nil {
		return out, fmt.Errorf("batch is not zstd: %w", err)
	}
	var in batch
	if err := decoding.Unmarshal(plain, &in); err != nil {
		return out, fmt.Errorf("batch is not as docs/replication.md has it: %w", err)
	}
	if err := checkTiers(in.Tiers, len(in.Series)); err != nil {
		return out, err
	}
	if out.Records = in.Records; out.Records.Count() > MaxRecords {
		return out, fmt.Errorf("batch holds %d records; at most %d are allowed", out.Records.Count(), MaxRecords)
	}
	rows := 0
	for i, r := range in.Series {
		one, err := r.check(in.Tiers)
		if err != nil {
			out.Bad = append(out.Bad, BadRun{
				i, string(r.Path), fmt.Errorf("batch, run %d, series %.300q: %w", i, r.Path, err),
			})
			continue
		}
		rows += one.Len()
		out.Runs, out.At = append(out.Runs, one), append(out.At, i)
	}
	if rows > MaxRows {
		return Decoded{}, fmt.Errorf("batch holds %d summaries; at most %d are allowed", rows, MaxRows)
	}
	return out, nil
}

// checkTiers wants widths that ascend. Each is a multiple of the one before only among those
// of one series.
func checkTiers(tiers []int64, runs int) error {
	if len(tiers) == 0 && runs > 0 || len(tiers) > MaxTiers {
		return fmt.Errorf("batch names %d tiers; 1 to %d are possible", len(tiers), MaxTiers)
	}
	before := int64(0)
	for _, t := range tiers {
		if t <= before || t%int64(time.Second) != 0 {
			return fmt.Errorf("batch names tiers of %v ns; whole seconds are wanted, in ascending order", tiers)
		}
		before = t
	}
	return nil
}

// tiersHere returns the tiers of a series that are sent, or all it has if none of them is.
func tiersHere(names string, sent []int64) (all series.Tiers, err error) {
	if names != "" {
		if all, err = series.ParseTiers(strings.Split(names, ",")); err != nil {
			return all, err
		}
	}
	here := slices.DeleteFunc(slices.Clone(all.All()),
		func(t series.Tier) bool { return !slices.Contains(sent, int64(t)) })
	if len(here) == 0 {
		return all, nil
	}
	return series.MakeTiers(here)
}

// latest is the last time a summary may be of; clocks are not that wrong.
var latest = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC).UnixNano()

func checkStart(start int64, tier series.Tier) error {
	if start < 0 || start > latest {
		return fmt.Errorf("starts at %d ns, which is not within the years 1970 to 2200", start)
	}
	if tier.Start(start) != start {
		return fmt.Errorf("starts at %d ns, which is no multiple of its tier", start)
	}
	return nil
}

func (r run) checkSketches() ([]Sketch, error) {
	if !r.Sketch || len(r.Starts) > 0 || r.Tier != 0 {
		return nil, fmt.Errorf("sketches of a series that has none, or beside rows, or of a tier")
	}
	for i, one := range r.Sketches {
		if err := checkStart(one.Start, series.Quarter); err != nil {
			return nil, fmt.Errorf("sketch %d %w", i, err)
		}
		if _, err := sketch.Parse(one.Data); err != nil {
			return nil, fmt.Errorf("sketch %d: %w", i, err)
		}
	}
	return r.Sketches, nil
}

// readingColumns are the columns of a run of readings.
var readingColumns = []string{"value"}

func (r run) checkReadings() (column.Block, error) {
	rows := column.Block{Times: r.Starts}
	for _, col := range r.Values {
		rows.Cols = append(rows.Cols, col)
	}
	if len(rows.Cols) != 1 {
		return rows, fmt.Errorf("readings with %d value columns; one is wanted", len(rows.Cols))
	}
	if err := rows.Check(); err != nil {
		return rows, err
	}
	for i, t := range r.Starts {
		if v := rows.Cols[0][i]; t < 0 || t > latest || math.IsInf(v, 0) || math.IsNaN(v) {
			return rows, fmt.Errorf("reading %d is %v at %d ns; a finite value within the years 1970 to 2200 is wanted", i, v, t)
		}
	}
	return rows.Normalize(), nil
}

func (r run) check(tiers []int64) (Run, error) {
	def, err := r.Definition.Checked()
	if err != nil {
		return Run{}, err
	}
	if err := cmp.Or(plain.CheckText(def.Unit), plain.CheckText(string(def.Calibration))); err != nil {
		return Run{}, fmt.Errorf("its unit %q or calibration: %w", clip(def.Unit), err)
	}
	def.Thinning = series.Thinning{}
	if def.Tiers, err = tiersHere(r.Tiers, tiers); err != nil {
		return Run{}, err
	}
	out := Run{Def: def, Tier: series.Tier(r.Tier), Rows: column.Block{Times: r.Starts}}
	if len(r.Sketches) > 0 {
		out.Rows = column.Block{}
		out.Sketches, err = r.checkSketches()
		return out, err
	}
	if r.Tier == int64(series.Readings) && slices.Equal(r.Columns, readingColumns) {
		out.Rows, err = r.checkReadings()
		return out, err
	}
	if !slices.Contains(tiers, r.Tier) {
		return Run{}, fmt.Errorf("its tier of %d ns is none of the batch; these are %v ns", r.Tier, tiers)
	}
	if columns, ok := rollup.ColumnsOf(def.Kind, len(r.Values)); !ok || !slices.Equal(columns, r.Columns) {
		return Run{}, fmt.Errorf("%d value columns, named %v; of a %s %v are wanted", len(r.Values), r.Columns,
			def.Kind, rollup.Columns(def.Kind))
	}
	for _, col := range r.Values {
		out.Rows.Cols = append(out.Rows.Cols, col)
	}
	if err := out.Rows.Check(); err != nil {
		return Run{}, err
	}
	for i, start := range r.Starts {
		if err := checkStart(start, out.Tier); err != nil {
			return Run{}, fmt.Errorf("summary %d %w", i, err)
		}
		if count := out.Rows.Cols[0][i]; !(count >= 1) || count != math.Trunc(count) {
			return Run{}, fmt.Errorf("summary %d counts %v readings; a whole number from 1 is wanted", i, count)
		}
		for c, col := range out.Rows.Cols {
			tooManyStates := def.Kind == series.State && c == rollup.ColStates && math.IsNaN(col[i])
			if math.IsInf(col[i], 0) || math.IsNaN(col[i]) && !tooManyStates {
				return Run{}, fmt.Errorf("summary %d has %v as its %s", i, col[i], r.Columns[c])
			}
			if col[i] == 0 {
				col[i] = 0 // -0 is 0
			}
		}
	}
	if err := possible(def.Kind, out.Tier, out.Rows); err != nil {
		return Run{}, err
	}
	out.Rows = out.Rows.Normalize()
	return out, nil
}
