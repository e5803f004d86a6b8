package sim

import (
	"math"
	"time"
)

// Raceways is how many raceways stony-beck has; they count from 0.
const Raceways = 6

// RacewayTemp in Cel.
func (f Field) RacewayTemp(t time.Time, raceway int) float64 {
	return round(f.Stream(t)+0.1*float64(raceway)+0.015*f.noise("raceway", t.Unix()+int64(raceway)), 0.01)
}

// Aerator is 1 while a raceway's aerator runs: always, but that of raceway 3 trips
// in every third night and stays off until somebody comes.
func (f Field) Aerator(t time.Time, raceway int) float64 {
	return bit(raceway != 3 || sinceTrip(t) < 0 || sinceTrip(t) > tripLasts)
}

const tripLasts = 2*time.Hour + 40*time.Minute

// sinceTrip returns the time since the last trip at 01:50 UTC of every third day; negative
// on the other days and before it.
func sinceTrip(t time.Time) time.Duration {
	day := t.UnixNano() / int64(24*time.Hour)
	if day%3 != 0 {
		return -1
	}
	return time.Duration(t.UnixNano()%int64(24*time.Hour)) - (1*time.Hour + 50*time.Minute)
}

// Oxygen of a raceway in mg/l: below saturation by what the fish take, most of it by
// day, and lower still while no aerator runs and for a while after.
func (f Field) Oxygen(t time.Time, raceway int) float64 {
	taken := 1.6 + 0.15*float64(raceway) + 0.55*daily(t, 14) + 0.25*f.drift("fish", t, 35*time.Minute)
	if raceway == 3 {
		if s := sinceTrip(t); s >= 0 && s < tripLasts+90*time.Minute {
			fall := 1 - math.Exp(-math.Min(s.Hours(), tripLasts.Hours())/0.9)
			rise := math.Exp(-math.Max(0, (s-tripLasts).Hours()) / 0.35)
			taken += 4.4 * fall * rise
		}
	}
	return round(saturation(f.RacewayTemp(t, raceway))-taken+0.03*f.noise("oxygen", t.Unix()*8+int64(raceway)), 0.01)
}

// ProbeOxygen returns the reading of a raceway's probe: oxygen, but the probe of raceway 1
// glitches to -99.9 now and then.
func (f Field) ProbeOxygen(t time.Time, raceway int) float64 {
	if raceway == 1 && f.noise("glitch", t.Unix()/5) > 0.94 {
		return -99.9
	}
	return f.Oxygen(t, raceway)
}

// ProbeSilent reports whether the probe of a raceway does not answer: the plug of that of
// raceway 5 is loose, for 40 s of every 15 min.
func (f Field) ProbeSilent(t time.Time, raceway int) bool {
	return raceway == 5 && time.Duration(t.UnixNano()%int64(15*time.Minute)) < 40*time.Second
}

// Silo returns the feed left in kg: it falls in steps at every second hour from 06:00 to
// 18:00 UTC and is filled up every sixth day.
func (f Field) Silo(t time.Time) float64 {
	days := t.UnixNano() / int64(24*time.Hour)
	hour := t.UTC().Hour()
	meals := 7 * (days % 6)
	if hour >= 6 {
		meals += int64(min(7, (hour-6)/2+1))
	}
	return round(1900-38.5*float64(meals)+0.5*f.noise("silo", t.Unix()/10), 0.5)
}
