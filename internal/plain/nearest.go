package plain

import (
	"slices"

	"github.com/agnivade/levenshtein"
)

// Nearest returns the known word that is spelled most like one that is not, or "" when none is near. Of several, the
// first in the alphabet counts.
func Nearest(word string, known []string) (best string) {
	distance := min(3, len(word)/2+1)
	for _, one := range slices.Sorted(slices.Values(known)) {
		if d := levenshtein.ComputeDistance(word, one); d < distance {
			best, distance = one, d
		}
	}
	return best
}
