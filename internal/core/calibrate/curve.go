// Package calibrate turns what a device says into the unit of its series.
package calibrate

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// Curve turns raw values into calibrated ones.
type Curve interface {
	Apply(raw float64) float64
}

// Linear is value × Scale + Offset.
type Linear struct {
	Scale  float64
	Offset float64
}

// NewLinear returns a scale, 1 when there is none, and an offset.
func NewLinear(scale *float64, offset float64) Linear {
	l := Linear{Scale: 1, Offset: offset}
	if scale != nil {
		l.Scale = *scale
	}
	return l
}

// Identity changes nothing.
var Identity = Linear{Scale: 1}

// Apply calibrates one raw value.
func (l Linear) Apply(raw float64) float64 {
	if l == Identity {
		return raw // keeps -0 and the exact bits
	}
	if by := 1 / l.Scale; by > 1 && by == math.Trunc(by) {
		return raw/by + l.Offset // 870 × 0.01 is 8.7, and not the last digit more that 0.01 has too much
	}
	return raw*l.Scale + l.Offset
}

// Point is a raw value and the true one that belongs to it.
type Point struct{ Raw, True float64 }

// Table goes straight from point to point, and on in the direction of its ends. Points
// ascend in Raw, and rise or fall all the way in True, so that it can be inverted.
type Table []Point

// mostPoints bounds a table; a curve that needs more is no calibration.
const mostPoints = 200

// NewTable sorts points and checks them.
func NewTable(points []Point) (Table, error) {
	if len(points) < 2 || len(points) > mostPoints {
		return nil, fmt.Errorf("there are %d points; write 2 to %d, each [raw, true]", len(points), mostPoints)
	}
	out := slices.SortedFunc(slices.Values(points), func(a, b Point) int { return cmp.Compare(a.Raw, b.Raw) })
	for i, p := range out {
		if !finite(p.Raw) || !finite(p.True) {
			return nil, fmt.Errorf("the point [%v, %v] is no pair of numbers", p.Raw, p.True)
		}
		if i == 0 {
			continue
		}
		before := out[i-1]
		if p.Raw == before.Raw {
			return nil, fmt.Errorf("the raw value %v stands there twice, for %v and %v", p.Raw, before.True, p.True)
		}
		if p.True == before.True || (p.True > before.True) != (out[1].True > out[0].True) {
			return nil, fmt.Errorf("the true values rise or fall all the way, but from [%v, %v] to [%v, %v] they do not as before; one of the points is wrong",
				before.Raw, before.True, p.Raw, p.True)
		}
	}
	return out, nil
}

func finite(v float64) bool { return !math.IsNaN(v) && !math.IsInf(v, 0) }

// Apply calibrates one raw value. It costs a binary search.
func (t Table) Apply(raw float64) float64 {
	i, exact := slices.BinarySearchFunc(t, raw, func(p Point, raw float64) int { return cmp.Compare(p.Raw, raw) })
	if exact {
		return t[i].True
	}
	i = min(max(i, 1), len(t)-1)
	return between(t[i-1], t[i], raw)
}

func between(a, b Point, raw float64) float64 {
	return a.True + (raw-a.Raw)*((b.True-a.True)/(b.Raw-a.Raw))
}

// Polynomial has the coefficients of 1, x, x² and so on.
type Polynomial []float64

const mostCoefficients = 10

// NewPolynomial checks coefficients.
func NewPolynomial(coefficients []float64) (Polynomial, error) {
	if len(coefficients) < 2 || len(coefficients) > mostCoefficients {
		return nil, fmt.Errorf("there are %d coefficients; write 2 to %d, of 1, x, x² and so on", len(coefficients),
			mostCoefficients)
	}
	for _, c := range coefficients {
		if !finite(c) {
			return nil, fmt.Errorf("the coefficient %v is no number", c)
		}
	}
	return coefficients, nil
}

// Apply calibrates one raw value, by Horner's rule.
func (p Polynomial) Apply(raw float64) (v float64) {
	for i := len(p) - 1; i >= 0; i-- {
		v = v*raw + p[i]
	}
	return v
}
