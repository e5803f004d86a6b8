package series

import (
	"hash/fnv"
	"slices"
	"strings"
)

// What many devices call the two states of something: at rest, and not.
var (
	atRest = strings.Fields("off false no closed shut stopped idle inactive down low dry ok normal none absent offline disabled")
	active = strings.Fields("on true yes open opened running started active up high wet alarm fault error present online enabled")
)

// Numbers of other names are spread over a range, so that two seldom want the same.
const firstNumber, numbers = 2, 998

// StateNumber returns the number of a state that is found, by its name: the same at every site, whichever state of a
// series comes first. Only where another state of the series has the number, the next one that is free counts.
func StateNumber(name string, taken []float64) float64 {
	low := strings.ToLower(name)
	if slices.Contains(atRest, low) && !slices.Contains(taken, 0) {
		return 0
	}
	if slices.Contains(active, low) && !slices.Contains(taken, 1) {
		return 1
	}
	h := fnv.New32a()
	_, _ = h.Write([]byte(low)) // a hash takes everything
	for n := h.Sum32(); ; n++ {
		if number := float64(firstNumber + n%numbers); !slices.Contains(taken, number) {
			return number
		}
	}
}
