package service

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/store"
)

func TestADiskThatFillsIsToldWeeksAhead(t *testing.T) {
	const mb = 1_000_000
	begin := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	day := func(n float64, free uint64) freeSpace {
		return freeSpace{begin.Add(time.Duration(n * 24 * float64(time.Hour))), free * mb}
	}
	for name, of := range map[string]struct {
		perDay, left uint64
		says         string
	}{
		"ten days":    {100, 1000, "full in about 10 days: in 7 days the free space went from 1700 to 1000 MB"},
		"a year":      {10, 3650, ""},
		"27 days":     {10, 270, "full in about 27 days"},
		"no trend":    {0, 5, ""},
		"hardly any":  {1, 20, ""},
		"nearly full": {100, 0, "full in about 0 days"},
	} {
		var s space
		for n := range uint64(8) {
			s.sample(day(float64(n), of.left+(7-n)*of.perDay))
			_, due := s.sample(day(float64(n)+0.5, 0))
			assert.False(t, due, "one a day")
		}
		if got := s.trouble(day(7, of.left)); of.says == "" {
			assert.Empty(t, got, name)
		} else {
			assert.Contains(t, got, of.says, name)
		}
	}
	var s space
	assert.Empty(t, s.trouble(day(0, 1)), "nothing is known yet")
	s.sample(day(0, 1000))
	assert.Empty(t, s.trouble(day(1, 10)), "a day is too short")
	s.sample(day(-3, 2000))
	assert.Len(t, s.samples, 1, "what a wrong clock said of the future is forgotten")
	for n := range 30 {
		s.sample(day(float64(n), 1000))
	}
	assert.Len(t, s.samples, mostSamples)
}

func TestHowTheDiskFilledIsKnownAfterARestart(t *testing.T) {
	path := filepath.Join(t.TempDir(), StoreFile)
	st, err := store.Open(path, slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	defer st.Close()
	s := &Service{Store: st, log: slog.New(slog.DiscardHandler)}
	ended, end := context.WithCancel(t.Context())
	end()
	require.NoError(t, s.watchSpace(ended))
	require.Len(t, s.space.samples, 1)
	again := &Service{Store: st, log: slog.New(slog.DiscardHandler)}
	require.NoError(t, again.watchSpace(ended))
	assert.Equal(t, s.space.samples, again.space.samples, "the day is not over")
	assert.Empty(t, again.space.trouble(again.space.samples[0]))
}
