package marks

import (
	"math/rand/v2"
	"nexocumula/internal/core/series"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const minute = int64(time.Minute)

func mark(id uint32, from, to int64, rows int) Mark {
	return Mark{
		Of{Series: id, Tier: series.Minute},
		Span{From: from * minute, To: to * minute, Rows: rows, Since: from * minute},
	}
}

func all(s *Set) (out []Mark) {
	s.Each(func(m Mark) { out = append(out, m) })
	return out
}

func TestSpansThatMeetBecomeOne(t *testing.T) {
	var s Set
	s.Add(mark(1, 10, 20, 10))
	s.Add(mark(1, 30, 40, 10))
	s.Add(mark(1, 20, 22, 2))
	s.Add(mark(2, 0, 5, 5))
	s.Add(mark(1, 7, 7, 0)) // nothing
	assert.ElementsMatch(t, []Mark{mark(1, 10, 22, 12), mark(1, 30, 40, 10), mark(2, 0, 5, 5)}, all(&s))
	s.Add(mark(1, 15, 35, 20))
	assert.ElementsMatch(t, []Mark{mark(1, 10, 40, 42), mark(2, 0, 5, 5)}, all(&s))
	assert.Equal(t, 47, s.Rows())
	assert.Equal(t, int64(0), s.Oldest())
	assert.Equal(t, 15,
		s.Cut(Of{Series: 1, Tier: series.Minute}, 25*minute)+s.Cut(Of{Series: 2, Tier: series.Minute}, 0)-6,
		"a share of the rows goes with what is cut")
	first, ok := s.First(Of{Series: 1, Tier: series.Minute})
	assert.True(t, ok)
	assert.Equal(t, 25*minute, first)
	for range 2 {
		_, ok := s.Take(nil)
		assert.True(t, ok)
	}
	_, ok = s.Take(nil)
	assert.False(t, ok)
	assert.Zero(t, s.Rows())
}

// Whatever is marked stays covered, and no series' tier has more than so many spans.
func TestMarkedTimesAreNeverForgotten(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		var s, other Set
		marked := map[int64]bool{}
		for range 80 {
			from := random.Int64N(2000)
			to := from + 1 + random.Int64N(20)
			s.Add(mark(1, from, to, 1))
			for m := from; m < to; m++ {
				marked[m] = true
			}
			if random.IntN(10) == 0 {
				s.Move(&other)
				other.Move(&s)
			}
		}
		covered := map[int64]bool{}
		spans := all(&s)
		require.LessOrEqual(t, len(spans), mostSpans)
		for i, m := range spans {
			require.True(t, i == 0 || m.From > spans[i-1].To)
			for at := m.From; at < m.To; at += minute {
				covered[at/minute] = true
			}
		}
		for m := range marked {
			require.True(t, covered[m])
		}
		back, err := Decode(Encode(spans))
		require.NoError(t, err)
		require.Equal(t, spans, back)
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(Encode([]Mark{
		mark(1, 5, 9, 4), {Of{Kind: Sketches, Series: 7}, Span{From: -5, To: 1 << 60, Rows: 1, Since: 7e9}},
	}))
	f.Fuzz(func(t *testing.T, data []byte) {
		found, err := Decode(data)
		if err != nil {
			return
		}
		for _, m := range found {
			require.Less(t, m.From, m.To)
		}
		_, err = Decode(Encode(found))
		require.NoError(t, err)
	})
}
