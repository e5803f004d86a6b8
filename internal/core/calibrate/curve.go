// Package calibrate turns what a device says into the unit of its series.
package calibrate

// Curve turns raw values into calibrated ones.
type Curve interface {
	Apply(raw float64) float64
}

// Linear is value × Scale + Offset.
type Linear struct {
	Scale  float64
	Offset float64
}

// NewLinear is a scale, 1 when there is none, and an offset.
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
	return raw*l.Scale + l.Offset
}
