package main

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
)

// atSizes runs a bench at a hundredth, at a tenth, and at its whole size. It returns the row of the whole size, with the
// cost of one item at each.
func atSizes(size int, unit string, cost func(r Row, size int) float64, run func(dir string, size int) (Row, error)) func(string) (Row, error) {
	return func(dir string) (row Row, err error) {
		var costs []string
		for _, n := range []int{size / 100, size / 10, size} {
			if row, err = run(filepath.Join(dir, strconv.Itoa(n)), n); err != nil {
				return row, err
			}
			costs = append(costs, fmt.Sprintf("%.3g of %d", cost(row, n), n))
		}
		row.Growth = unit + ": " + strings.Join(costs, ", ")
		return row, nil
	}
}

// perItem is for rows of the milliseconds that all take.
func perItem(r Row, size int) float64 { return r.Ours * 1000 / float64(size) }

// perSecond is for rows of how many can be done in a second.
func perSecond(r Row, _ int) float64 { return 1e6 / r.Ours }

func asItIs(r Row, _ int) float64 { return r.Ours }

// perHundred is for rows of the share of a core that all take.
func perHundred(r Row, size int) float64 { return 100 * r.Ours / float64(size) }
