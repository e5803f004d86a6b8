package sim

import (
	"hash/fnv"
	"math"
	"time"
)

// Field is the physical world of the three sites: what is true at a time of its clock, before
// any device measures it. The times its methods take are times of that clock.
type Field struct {
	Seed  uint64
	Ahead time.Duration // how far the clock of this world is ahead of the service's
}

// Clock returns what the clock of this world shows at the time t of the service.
func (f Field) Clock(t time.Time) time.Time { return t.Add(f.Ahead) }

// Starting returns f with a clock that shows start now; a zero start leaves it as it is.
func (f Field) Starting(start time.Time) Field {
	if !start.IsZero() {
		f.Ahead = time.Until(start).Round(time.Second)
	}
	return f
}

// noise returns a value from -1 to 1 that is always the same for a name and step.
func (f Field) noise(name string, step int64) float64 {
	h := fnv.New64a()
	var b [16]byte
	for i := range 8 {
		b[i] = byte(f.Seed >> (8 * i))
		b[8+i] = byte(uint64(step) >> (8 * i))
	}
	h.Write(b[:])
	h.Write([]byte(name))
	x := h.Sum64()
	x ^= x >> 33 // FNV leaves the high bits of similar inputs alike; mix them
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return float64(x>>11)/(1<<52) - 1
}

// drift is noise that changes smoothly, with a new value each period.
func (f Field) drift(name string, t time.Time, period time.Duration) float64 {
	at := float64(t.UnixNano()) / float64(period)
	step := math.Floor(at)
	share := (1 - math.Cos(math.Pi*(at-step))) / 2
	return f.noise(name, int64(step))*(1-share) + f.noise(name, int64(step)+1)*share
}

// daily is 1 at the given hour (UTC) and -1 twelve hours from it.
func daily(t time.Time, hour float64) float64 {
	h := float64(t.UnixNano()%int64(24*time.Hour)) / float64(time.Hour)
	return math.Cos((h - hour) * math.Pi / 12)
}

func round(v, resolution float64) float64 {
	n := math.Round(1 / resolution)
	return math.Round(v*n) / n
}

func bit(on bool) float64 {
	if on {
		return 1
	}
	return 0
}

// Stream returns the water that all sites share: its temperature in Cel.
func (f Field) Stream(t time.Time) float64 {
	return 11.2 + 1.4*daily(t, 16) + 0.9*f.drift("stream", t, 30*time.Hour) + 0.15*f.drift("stream-fast", t,
		20*time.Minute)
}

// saturation of oxygen in fresh water in mg/l at a temperature in Cel, the first
// terms of the fit of Weiss (1970) at sea level.
func saturation(temp float64) float64 {
	return 14.62 - 0.394*temp + 0.0072*temp*temp - 0.00006*temp*temp*temp
}
