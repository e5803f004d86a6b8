// Package rounds says how long tests run that try random cases: briefly with every change, and for long
// before a release.
package rounds

import (
	"os"
	"strconv"
	"testing"
)

// Variable is the environment variable with the factor by which random tests run longer than usual.
const Variable = "NEXOCUMULA_TEST_ROUNDS"

// Of returns how many rounds a test runs that usually runs so many: a tenth of them with go test -short, and more with
// the variable set, as make test-long sets it.
func Of(usual int) int {
	if testing.Short() {
		return max(1, usual/10)
	}
	if factor, err := strconv.ParseFloat(os.Getenv(Variable), 64); err == nil && factor > 0 {
		return max(1, int(factor*float64(usual)))
	}
	return usual
}

// Alone skips a test with go test -short, which runs under the race detector, where nothing of it
// runs side by side.
func Alone(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("nothing of it runs side by side")
	}
}
