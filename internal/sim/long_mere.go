package sim

import (
	"math"
	"time"
)

// Buoys is how many buoys long-mere has; they count from 0.
const Buoys = 4

// Depths at which a buoy measures, in m.
var Depths = []int{1, 3, 6}

// LakeTemp in Cel at a depth in m.
func (f Field) LakeTemp(t time.Time, buoy, depth int) float64 {
	d := float64(depth)
	swing := 1.1 * math.Exp(-d/3) * daily(t, 15.5)
	return round(13.4-0.28*d+swing+0.6*f.drift("lake", t, 40*time.Hour)+0.12*f.drift("lake-fast",
		t.Add(time.Duration(buoy)*time.Hour), 25*time.Minute)+0.008*f.noise("lake", t.Unix()+int64(buoy*10+depth)),
		0.01)
}

// LakeOxygen in mg/l.
func (f Field) LakeOxygen(t time.Time, buoy int) float64 {
	return round(saturation(f.LakeTemp(t, buoy, 3))-0.9+0.35*daily(t, 15)+0.1*f.drift("lake-oxygen",
		t.Add(time.Duration(buoy)*2*time.Hour), time.Hour)+0.015*f.noise("lake-oxygen", t.Unix()+int64(buoy)),
		0.01)
}

// Battery of a buoy in V: the sun charges it by day; that of buoy 3 is worn out.
func (f Field) Battery(t time.Time, buoy int) float64 {
	full, sun := 12.65, 0.35
	if buoy == 3 {
		full, sun = 11.4, 0.25 // low at noon too
	}
	v := full + sun*math.Max(-0.6, daily(t, 13)) + 0.05*f.drift("cloud", t, 3*time.Hour)
	return round(v, 0.01)
}

// WindSpeed at the mast in m/s.
func (f Field) WindSpeed(t time.Time) float64 {
	gust := math.Max(0, f.drift("gust", t, 45*time.Second))
	return round(math.Max(0, 4.2+1.6*daily(t, 14)+2.4*f.drift("wind", t, 7*time.Hour)+1.8*gust), 0.1)
}

// WindDirection in degrees, 0 to 359: it swings about north.
func (f Field) WindDirection(t time.Time) float64 {
	d := 352 + 40*f.drift("veer", t, 6*time.Hour) + 14*f.drift("veer-fast", t, 4*time.Minute)
	return math.Mod(math.Round(d)+720, 360)
}

// BuoySilent reports whether a buoy's link was out at a time: that of buoy 2 for five
// hours of every fourth day.
func (f Field) BuoySilent(t time.Time, buoy int) bool {
	day, within := t.UnixNano()/int64(24*time.Hour), time.Duration(t.UnixNano()%int64(24*time.Hour))
	return buoy == 2 && day%4 == 1 && within > 2*time.Hour && within < 7*time.Hour
}
