package marks

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
)

// takeAll empties a set in an order.
func takeAll(t *testing.T, s *Set, order Order) (out []Mark) {
	for {
		turn := s.Next(order)
		if len(turn.Of) == 0 {
			return out
		}
		for _, of := range turn.Of {
			m, ok := s.TakeWithin(of, turn.From, turn.To)
			require.True(t, ok)
			out = append(out, m)
		}
	}
}

// In whatever order marks are taken, all that was marked comes once, and as many rows of it.
func TestAnOrderTakesEverythingOnce(t *testing.T) {
	random := rand.New(rand.NewPCG(30, 1))
	const hour = series.Tier(time.Hour)
	tiers := []series.Tier{series.Tier(10 * time.Second), series.Minute, hour, series.Tier(24 * time.Hour)}
	for round := range 200 {
		order := Order(round % len(orders))
		var s Set
		covered, rows := map[Of]map[int64]bool{}, 0
		for range 1 + random.IntN(30) {
			of := Of{Series: uint32(random.IntN(4)), Tier: tiers[random.IntN(len(tiers))]}
			wide := int64(of.Tier)
			from := 500_000*int64(time.Hour)/wide*wide + random.Int64N(300)*wide
			m := Mark{of, Span{From: from, To: from + wide*(1+random.Int64N(200)), Rows: 1 + random.IntN(90)}}
			if random.IntN(20) == 0 {
				m.From, m.To = 0, endless*100
			}
			s.Add(m)
		}
		s.Each(func(m Mark) {
			rows += m.Rows
			if covered[m.Of] == nil {
				covered[m.Of] = map[int64]bool{}
			}
			for at := m.From; at < m.To && m.To-m.From < endless; at += int64(m.Tier) {
				covered[m.Of][at] = true
			}
		})
		var last Mark
		for i, m := range takeAll(t, &s, order) {
			rows -= m.Rows
			for at := m.From; at < m.To && m.To-m.From < endless; at += int64(m.Tier) {
				require.True(t, covered[m.Of][at], "%s: %v at %d", orders[order], m.Of, at)
				delete(covered[m.Of], at)
			}
			short := m.To-m.From < endless && last.To-last.From < endless && m.Tier < hour && last.Tier < hour
			switch {
			case i == 0 || !short:
			case order == Newest:
				assert.LessOrEqual(t, down(m.To-1, piece), down(last.To-1, piece))
			case order == Oldest:
				assert.GreaterOrEqual(t, down(m.From, piece), down(last.From, piece))
			case order == Widest:
				assert.LessOrEqual(t, m.Tier, last.Tier)
			}
			last = m
		}
		require.Zero(t, rows)
		require.Zero(t, s.Rows())
		for _, left := range covered {
			require.Empty(t, left, orders[order])
		}
	}
}
