package sim

import (
	"fmt"
	"time"
)

// Quantity is one measured quantity of a site, for writing history without waiting
// for it.
type Quantity struct {
	Series string                                     // station/quantity
	At     func(t time.Time) (value float64, ok bool) // at a time of the service
}

// Sites are the names of the three sites.
var Sites = []string{"alder-weir", "stony-beck", "long-mere"}

// Quantities lists the quantities measured at a site, by the gateway's names.
func (f Field) Quantities(site string) []Quantity {
	var out []Quantity
	switch site {
	case "alder-weir":
		out = f.alderWeir()
	case "stony-beck":
		out = f.stonyBeck()
	case "long-mere":
		out = f.longMere()
	}
	for i, q := range out {
		out[i].At = func(t time.Time) (float64, bool) { return q.At(f.Clock(t)) }
	}
	return out
}

func always(series string, value func(time.Time) float64) Quantity {
	return Quantity{series, func(t time.Time) (float64, bool) { return value(t), true }}
}

func (f Field) alderWeir() []Quantity {
	out := []Quantity{
		always("hatchery/inflow", f.Inflow), always("header-tank/level", f.TankLevel),
		always("hatchery/water_temp", f.HatcheryTemp), always("header-tank/alarm_float", f.AlarmFloat),
		always("inlet-gate/opening", f.GateOpening), always("inlet-gate/drive", f.GateDrive),
	}
	for pump := range 2 {
		station := fmt.Sprintf("pump-%d/", pump+1)
		out = append(out,
			always(station+"power", func(t time.Time) float64 { return f.PumpPower(t, pump) }),
			always(station+"energy", func(t time.Time) float64 { return f.PumpEnergy(t, pump) }),
			always(station+"running", func(t time.Time) float64 { return f.PumpRunning(t, pump) }))
	}
	return out
}

func (f Field) stonyBeck() []Quantity {
	out := []Quantity{always("silo-1/feed", f.Silo)}
	for raceway := range Raceways {
		station := fmt.Sprintf("raceway-%d/", raceway+1)
		out = append(out,
			always(station+"oxygen", func(t time.Time) float64 { return f.ProbeOxygen(t, raceway) }),
			always(station+"water_temp", func(t time.Time) float64 { return f.RacewayTemp(t, raceway) }),
			always(station+"aerator", func(t time.Time) float64 { return f.Aerator(t, raceway) }))
	}
	return out
}

func (f Field) longMere() []Quantity {
	out := []Quantity{
		always("mast/wind_speed", f.WindSpeed), always("mast/wind_direction", f.WindDirection),
		always("lake/level", f.LakeLevel),
	}
	for buoy := range Buoys {
		station := fmt.Sprintf("buoy-%d/", buoy+1)
		of := func(name string, value func(time.Time) float64) {
			out = append(out, Quantity{
				station + name, func(t time.Time) (float64, bool) { return value(t), !f.BuoySilent(t, buoy) },
			})
		}
		for _, depth := range Depths {
			of(fmt.Sprintf("water_temp_%dm", depth), func(t time.Time) float64 { return f.LakeTemp(t, buoy, depth) })
		}
		of("oxygen", func(t time.Time) float64 { return f.LakeOxygen(t, buoy) })
		of("battery", func(t time.Time) float64 { return f.Battery(t, buoy) })
	}
	return out
}
