// Package span reads and writes durations the way we write them everywhere:
// 10s, 15m, 1h, 1d, 1w.
package span

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

const (
	day  = 24 * time.Hour
	week = 7 * day
)

var units = []struct {
	name string
	size time.Duration
}{{"w", week}, {"d", day}, {"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}, {"ms", time.Millisecond}}

// Parse reads a whole number and a unit: ms, s, m, h, d or w.
func Parse(s string) (time.Duration, error) {
	digits := strings.TrimRight(s, "abcdefghijklmnopqrstuvwxyz")
	n, err := strconv.ParseInt(digits, 10, 64)
	whole := digits != "" && strings.Trim(digits, "0123456789") == ""
	for _, u := range units {
		if !whole || s[len(digits):] != u.name {
			continue
		}
		if err != nil || n > int64(200*52*week/u.size) {
			return 0, fmt.Errorf("duration %q is too long; at most %d%s, which is 200 years, are possible", s,
				int64(200*52*week/u.size), u.name)
		}
		if n > 0 {
			return time.Duration(n) * u.size, nil
		}
	}
	return 0, fmt.Errorf("duration %q: write a whole number and ms, s, m, h, d or w, such as 10s, 15m, 24h or 7d", s)
}

// Format writes d with the widest unit that divides it.
func Format(d time.Duration) string {
	for _, u := range units {
		if d != 0 && d%u.size == 0 && (u.name != "w" || d == week) {
			return strconv.FormatInt(int64(d/u.size), 10) + u.name
		}
	}
	return d.String()
}
