package calibrate

import (
	"fmt"
	"hash/crc32"
	"math"
	"strconv"
	"strings"
	"time"

	"nexocumula/internal/core/series"
)

// Outside says what becomes of raw values that a calibration was not made for.
type Outside string

// The ways.
const (
	Extend Outside = "extend" // the curve goes on
	Clamp  Outside = "clamp"  // the value of the nearest end counts
	Refuse Outside = "reject"
)

// ParseOutside reads one; the empty text is Extend.
func ParseOutside(text string) (Outside, error) {
	switch o := Outside(text); o {
	case Extend, Clamp, Refuse:
		return o, nil
	case "":
		return Extend, nil
	}
	return "", fmt.Errorf("%q is not known; use extend, clamp or reject", text)
}

// Calibration is a curve with what belongs to it.
type Calibration struct {
	Since    int64 // readings from this time on, nanoseconds since 1970; 0: from the beginning
	Curve    Curve
	In       string // unit of the raw value; "": nothing is known of it
	Low      float64
	High     float64 // raw values it was made for; -Inf and +Inf: any
	Outside  Outside
	Decimals int // of the calibrated value; -1: as they come
}

// Apply calibrates one raw value, or says why it cannot be.
func (c *Calibration) Apply(raw float64) (v float64, refusal string) {
	if raw < c.Low || raw > c.High {
		switch c.Outside {
		case Refuse:
			return raw, fmt.Sprintf("raw value %v is outside of what the calibration was made for, %v to %v", raw,
				c.Low, c.High)
		case Clamp:
			raw = min(max(raw, c.Low), c.High)
		}
	}
	return c.round(c.Curve.Apply(raw)), ""
}

// round gives a value its decimals. What is too large to have any stays.
func (c *Calibration) round(v float64) float64 {
	if c.Decimals < 0 {
		return v
	}
	scale := math.Pow10(c.Decimals)
	if scaled := v * scale; math.Abs(scaled) < 1<<53 {
		return math.Round(scaled) / scale
	}
	return v
}

// String returns the calibration for people.
func (c *Calibration) String() string {
	var out strings.Builder
	switch curve := c.Curve.(type) {
	case Linear:
		fmt.Fprintf(&out, "raw × %v + %v", curve.Scale, curve.Offset)
	case Table:
		out.WriteString(curve.brief())
	case Polynomial:
		fmt.Fprintf(&out, "polynomial %v", []float64(curve))
	}
	if c.In != "" {
		out.WriteString(" from " + c.In)
	}
	if c.Outside != Extend {
		fmt.Fprintf(&out, ", %s outside %v to %v", c.Outside, c.Low, c.High)
	}
	if c.Decimals >= 0 {
		out.WriteString(", decimals " + strconv.Itoa(c.Decimals))
	}
	if c.Since != 0 {
		out.WriteString(series.CalibratedSince + time.Unix(0, c.Since).UTC().Format(time.RFC3339))
	}
	return out.String()
}

const mostInWords = 20

// brief returns the points, of many only the ends, with a number that is another when any is.
func (t Table) brief() string {
	var all strings.Builder
	all.WriteString("points")
	for _, p := range t {
		fmt.Fprintf(&all, " %v→%v", p.Raw, p.True)
	}
	if len(t) <= mostInWords {
		return all.String()
	}
	first, last := t[0], t[len(t)-1]
	return fmt.Sprintf("%d points, %v→%v to %v→%v (%08x)", len(t), first.Raw, first.True, last.Raw, last.True,
		crc32.ChecksumIEEE([]byte(all.String())))
}

// Versions are calibrations in order of Since.
type Versions []Calibration

// At returns the one that counts at a time; nil when none does yet.
func (v Versions) At(t int64) *Calibration {
	for i := len(v) - 1; i >= 0; i-- {
		if v[i].Since <= t {
			return &v[i]
		}
	}
	return nil
}
