package screen

import "slices"

type point struct {
	time  int64
	value float64
}

// Memory is the screens' memory of a series. It is not safe for concurrent use.
type Memory struct {
	good  []point // the last good ones by time; those that come late find their place
	since int64   // the newest value has been the same from this time on
	last  point   // the newest that arrived, good or not
	any   bool
}

// mostRemembered is how many good readings are remembered, so that what a device sends
// late and out of order is compared with its neighbours.
const mostRemembered = 8

// Start puts in what a store knows from before: the newest reading, and from when on it had its value.
func (m *Memory) Start(time int64, value float64, since int64) {
	m.Arrived(since, value)
	m.Arrived(time, value)
	m.Good(time, value)
}

// Arrived notes a reading, good or not.
func (m *Memory) Arrived(time int64, value float64) {
	switch {
	case !m.any || value != m.last.value && time >= m.last.time:
		m.since = time
	case time < m.last.time:
		return
	}
	m.last, m.any = point{time, value}, true
}

// Good notes a reading that counts and is not in doubt.
func (m *Memory) Good(time int64, value float64) {
	i, exact := slices.BinarySearchFunc(m.good, time, byTime)
	switch {
	case exact:
		m.good[i].value = value
	case len(m.good) < mostRemembered:
		m.good = slices.Insert(m.good, i, point{time, value})
	case i > 0: // the oldest makes room
		copy(m.good, m.good[1:i])
		m.good[i-1] = point{time, value}
	}
}

func byTime(p point, time int64) int {
	switch {
	case p.time < time:
		return -1
	case p.time > time:
		return 1
	}
	return 0
}

// nearest returns the good reading before a time, or the one after it when none is known.
func (m *Memory) nearest(time int64) (point, bool) {
	i, exact := slices.BinarySearchFunc(m.good, time, byTime)
	switch {
	case exact:
		return m.good[i], true
	case i > 0:
		return m.good[i-1], true
	case len(m.good) > 0:
		return m.good[0], true
	}
	return point{}, false
}

// sameSince is from when on the series has had a value; ok is false when it had another
// last, or when the time is not the newest.
func (m *Memory) sameSince(time int64, value float64) (since int64, ok bool) {
	if !m.any || time < m.last.time || value != m.last.value {
		return 0, false
	}
	return m.since, true
}

// Clone returns a copy, for looking at what would become of a reading.
func (m *Memory) Clone() *Memory {
	out := *m
	out.good = slices.Clone(m.good)
	return &out
}
