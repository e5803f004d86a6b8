package wire

import (
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
)

// Run is summaries of one series at one tier.
type Run struct {
	Def  series.Definition
	Tier rollup.Tier
	Rows column.Block

	// Sketches instead of rows, of tier rollup.Quarter.
	Sketches []Sketch
}

// Sketch is that of one window.
type Sketch struct {
	Start int64  `cbor:"start"`
	Data  []byte `cbor:"data"`
}

// Len is how many windows the run is of.
func (r Run) Len() int { return r.Rows.Len() + len(r.Sketches) }

type batch struct {
	Version int   `cbor:"version"`
	Series  []run `cbor:"series"`
}

type run struct {
	Path     string     `cbor:"path"`
	Kind     string     `cbor:"kind"`
	Unit     string     `cbor:"unit"`
	FreshFor int64      `cbor:"fresh_for"`        // nanoseconds
	Wrap     float64    `cbor:"wrap,omitempty"`   // of counters: steps until it begins again
	Labels   string     `cbor:"labels,omitempty"` // key=value,key=value
	Tier     int64      `cbor:"tier"`             // nanoseconds
	Sketch   bool       `cbor:"sketch,omitempty"`
	Sketches []Sketch   `cbor:"sketches,omitempty"` // instead of what follows
	Columns  []string   `cbor:"columns"`
	Starts   int64s     `cbor:"starts"` // nanoseconds since 1970
	Values   []float64s `cbor:"values"` // as columns names them
}

const batchVersion = 2

// Safe for concurrent use through EncodeAll and DecodeAll.
var (
	compressor   = must(zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1)))
	decompressor = must(zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(MaxBatch)))
)

// EncodeBatch writes runs as one batch.
func EncodeBatch(runs []Run) ([]byte, error) {
	out := batch{Version: batchVersion}
	for _, r := range runs {
		columns, ok := rollup.ColumnsOf(r.Def.Kind, len(r.Rows.Cols))
		if !ok && r.Tier != rollup.Quarter {
			return nil, fmt.Errorf("encoding a batch: %s, a %s, has %d columns", r.Def.Path, r.Def.Kind, len(r.Rows.Cols))
		}
		one := run{
			Path: string(r.Def.Path), Kind: string(r.Def.Kind), Unit: r.Def.Unit, FreshFor: int64(r.Def.FreshFor),
			Wrap: r.Def.Wrap, Labels: string(r.Def.Labels), Tier: int64(r.Tier), Sketch: r.Def.Sketch, Sketches: r.Sketches, Columns: columns, Starts: r.Rows.Times,
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

// DecodeBatch reads and checks one batch. Every run that comes back is normalized.
func DecodeBatch(data []byte) ([]Run, error) {
	plain, err := decompressor.DecodeAll(data, nil)
	if err != nil {
		return nil, fmt.Errorf("batch is not zstd: %w", err)
	}
	var in batch
	if err := decoding.Unmarshal(plain, &in); err != nil {
		return nil, fmt.Errorf("batch is not as docs/replication.md has it: %w", err)
	}
	if in.Version != batchVersion {
		return nil, fmt.Errorf("batch has version %d; version %d is wanted", in.Version, batchVersion)
	}
	var out []Run
	rows := 0
	for i, r := range in.Series {
		one, err := r.check()
		if err != nil {
			return nil, fmt.Errorf("batch, run %d, series %.300q: %w", i, r.Path, err)
		}
		rows += one.Len()
		out = append(out, one)
	}
	if rows > MaxRows {
		return nil, fmt.Errorf("batch holds %d summaries; at most %d are allowed", rows, MaxRows)
	}
	return out, nil
}

// latest is the last time a summary may be of; clocks are not that wrong.
var latest = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC).UnixNano()

func checkStart(start int64, tier rollup.Tier) error {
	if start < 0 || start > latest {
		return fmt.Errorf("starts at %d ns, which is not within the years 1970 to 2200", start)
	}
	if tier.Start(start) != start {
		return fmt.Errorf("starts at %d ns, which is no multiple of its tier", start)
	}
	return nil
}

func (r run) checkSketches() ([]Sketch, error) {
	if !r.Sketch || r.FreshFor <= 0 || len(r.Starts) > 0 {
		return nil, fmt.Errorf("sketches of a series that has none, or beside rows")
	}
	for i, one := range r.Sketches {
		if err := checkStart(one.Start, rollup.Quarter); err != nil {
			return nil, fmt.Errorf("sketch %d %w", i, err)
		}
		if _, err := sketch.Parse(one.Data); err != nil {
			return nil, fmt.Errorf("sketch %d: %w", i, err)
		}
	}
	return r.Sketches, nil
}

func (r run) check() (Run, error) {
	path, err := series.ParsePath(r.Path)
	if err != nil {
		return Run{}, err
	}
	kind, err := series.ParseKind(r.Kind)
	if err != nil {
		return Run{}, err
	}
	labels, err := series.ParseLabels(r.Labels)
	if err != nil {
		return Run{}, err
	}
	out := Run{
		Def:  series.Definition{Path: path, Kind: kind, Unit: r.Unit, FreshFor: time.Duration(r.FreshFor), Wrap: r.Wrap, Labels: labels, Sketch: r.Sketch},
		Tier: rollup.Tier(r.Tier),
		Rows: column.Block{Times: r.Starts},
	}
	if out.Tier == rollup.Quarter {
		out.Rows = column.Block{}
		out.Sketches, err = r.checkSketches()
		return out, err
	}
	if !slices.Contains(rollup.Tiers, out.Tier) || r.FreshFor <= 0 || len(r.Unit) > 100 {
		return Run{}, fmt.Errorf("tier %d ns, fresh_for %d ns and a unit of %d bytes are not possible together; tiers are %v", r.Tier, r.FreshFor, len(r.Unit), rollup.Tiers)
	}
	if !(r.Wrap >= 0) || math.IsInf(r.Wrap, 0) {
		return Run{}, fmt.Errorf("wrap is %v; 0 or more is wanted", r.Wrap)
	}
	if columns, ok := rollup.ColumnsOf(kind, len(r.Values)); !ok || !slices.Equal(columns, r.Columns) {
		return Run{}, fmt.Errorf("%d value columns, named %v; of a %s %v are wanted", len(r.Values), r.Columns, kind, rollup.Columns(kind))
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
			tooManyStates := kind == series.State && c == rollup.ColStates && math.IsNaN(col[i])
			if math.IsInf(col[i], 0) || math.IsNaN(col[i]) && !tooManyStates {
				return Run{}, fmt.Errorf("summary %d has %v as its %s", i, col[i], r.Columns[c])
			}
		}
	}
	out.Rows = out.Rows.Normalize()
	return out, nil
}
