package sim

import (
	"math"
	"time"
)

// Inflow of the hatchery in l/s.
func (f Field) Inflow(t time.Time) float64 {
	rain := math.Max(0, f.drift("rain", t, 9*time.Hour))
	return round(84+38*rain*rain+3*f.drift("inflow", t, 40*time.Minute)+0.4*f.noise("inflow", t.Unix()), 0.1)
}

// TankLevel of the header tank in m.
func (f Field) TankLevel(t time.Time) float64 {
	level := 1.72 - 0.18*pumpShare(t, 0) + 0.12*f.drift("tank", t, 50*time.Minute) + 0.05*f.drift("rain", t,
		9*time.Hour)
	return round(level+0.006*f.noise("tank", t.Unix()), 0.01)
}

// AlarmFloat is lifted when the header tank is nearly full.
func (f Field) AlarmFloat(t time.Time) float64 { return bit(f.TankLevel(t) > 1.86) }

// HatcheryTemp in Cel.
func (f Field) HatcheryTemp(t time.Time) float64 {
	return round(f.Stream(t)+0.02*f.noise("hatchery", t.Unix()), 0.01)
}

// The two pumps take turns: each runs for 27 of every 40 minutes, half a turn apart.
const (
	pumpTurn = 40 * time.Minute
	pumpRun  = 27 * time.Minute
	pumpKW   = 4.3
	// The panel restarts now and then, and its energy totals start again from zero.
	panelUptime = 61 * time.Hour
)

func pumpPhase(t time.Time, pump int) time.Duration {
	return time.Duration((t.UnixNano() + int64(pump)*int64(pumpTurn)/2) % int64(pumpTurn))
}

// pumpShare runs from 0 to 1 while a pump runs.
func pumpShare(t time.Time, pump int) float64 {
	return math.Min(1, float64(pumpPhase(t, pump))/float64(pumpRun))
}

// PumpRunning is 1 or 0. Pumps count from 0.
func (f Field) PumpRunning(t time.Time, pump int) float64 { return bit(pumpPhase(t, pump) < pumpRun) }

// PumpPower in kW.
func (f Field) PumpPower(t time.Time, pump int) float64 {
	if f.PumpRunning(t, pump) == 0 {
		return 0
	}
	return float64(float32(round(pumpKW+0.3*f.drift("power", t, 10*time.Minute)+0.02*f.noise("power", t.Unix()), 0.001)))
}

// PumpEnergy returns the total in kWh since the panel's last restart.
func (f Field) PumpEnergy(t time.Time, pump int) float64 {
	restart := time.Unix(0, t.UnixNano()-t.UnixNano()%int64(panelUptime))
	return math.Floor(10*(pumpedHours(t, pump)-pumpedHours(restart, pump))*pumpKW) / 10
}

// pumpedHours returns how long a pump has run since 1970, in hours.
func pumpedHours(t time.Time, pump int) float64 {
	turns := (t.UnixNano() + int64(pump)*int64(pumpTurn)/2) / int64(pumpTurn)
	return float64(turns)*pumpRun.Hours() + math.Min(pumpPhase(t, pump).Hours(), pumpRun.Hours())
}
