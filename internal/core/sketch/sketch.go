// Package sketch estimates percentiles of readings that are no longer there. Sketches of
// neighbouring windows merge into that of both.
//
// An estimate is within 1 % of a reading between which the percentile lies. Source:
// Masson, Rim and Lee, DDSketch, PVLDB 12 (2019); the bytes are the library's.
package sketch

import (
	"fmt"

	"github.com/DataDog/sketches-go/ddsketch"
	"github.com/DataDog/sketches-go/ddsketch/mapping"
	"github.com/DataDog/sketches-go/ddsketch/store"
)

// Accuracy is by how much of itself an estimate may be wrong.
const Accuracy = 0.01

// MaxBytes bounds one encoded sketch.
const MaxBytes = 64 << 10

// Sketch is of some readings.
type Sketch struct{ of *ddsketch.DDSketch }

var byLogarithm = func() mapping.IndexMapping {
	m, err := mapping.NewLogarithmicMapping(Accuracy)
	if err != nil {
		panic(err) // only a constant goes in
	}
	return m
}()

// New returns the sketch of no readings at all.
func New() *Sketch {
	return &Sketch{ddsketch.NewDDSketchFromStoreProvider(byLogarithm, store.SparseStoreConstructor)}
}

// Add takes a finite value in.
func (s *Sketch) Add(value float64) error { return s.of.Add(value) }

// Merge takes all of another one in.
func (s *Sketch) Merge(o *Sketch) error { return s.of.MergeWith(o.of) }

// Count returns how many readings it is of.
func (s *Sketch) Count() float64 { return s.of.GetCount() }

// Percentile estimates the p-th percentile, 0 <= p <= 100, of at least one reading.
func (s *Sketch) Percentile(p float64) (float64, error) { return s.of.GetValueAtQuantile(p / 100) }

// Bytes encodes the sketch for Parse.
func (s *Sketch) Bytes() []byte {
	var out []byte
	s.of.Encode(&out, false)
	return out
}

// Parse reads what Bytes wrote.
func Parse(data []byte) (*Sketch, error) {
	if len(data) > MaxBytes {
		return nil, fmt.Errorf("a sketch of %d bytes; at most %d are possible", len(data), MaxBytes)
	}
	of, err := ddsketch.DecodeDDSketch(data, store.SparseStoreConstructor, nil)
	if err != nil {
		return nil, fmt.Errorf("reading a sketch: %w", err)
	}
	if !of.IndexMapping.Equals(byLogarithm) {
		return nil, fmt.Errorf("reading a sketch: its accuracy is not %v", Accuracy)
	}
	return &Sketch{of}, nil
}
