package series

import "math"

// Turn returns an angle in degrees as a bearing, 0 <= angle < 360; what is no number stays none.
func Turn(degrees float64) float64 {
	if degrees >= 0 && degrees < 360 || math.IsNaN(degrees) {
		return degrees
	}
	if degrees = math.Mod(degrees, 360); degrees < 0 {
		degrees += 360
	}
	if degrees >= 360 { // a tiny negative angle plus 360
		return 0
	}
	return degrees + 0 // not -0
}
