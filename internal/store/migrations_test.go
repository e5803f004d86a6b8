package store

import (
	"compress/gzip"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/tables/tablestest"
)

// olderStore unpacks a store that the version of a step wrote, with the history of a day in it.
func olderStore(t *testing.T, packed string) string {
	from, err := os.Open(packed)
	require.NoError(t, err)
	defer from.Close()
	reader, err := gzip.NewReader(from)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "nexocumula.db")
	to, err := os.Create(file)
	require.NoError(t, err)
	defer to.Close()
	_, err = io.Copy(to, reader)
	require.NoError(t, err)
	return file
}

func TestStoresOfOlderVersionsAreReadInFull(t *testing.T) {
	rounds.Alone(t)
	all, err := filepath.Glob("testdata/stores/*.db.gz")
	require.NoError(t, err)
	require.Len(t, all, 10)
	for _, packed := range all {
		step := strings.TrimSuffix(filepath.Base(packed), ".db.gz")
		t.Run(step, func(t *testing.T) {
			file := olderStore(t, packed)
			for range 2 { // brought up to date, and opened again
				s, err := Open(file, slog.New(slog.DiscardHandler), Options{})
				require.NoError(t, err)
				assert.Zero(t, s.Damaged())
				whole(t, s)
				for path, wanted := range map[series.Path]int{
					"stony-beck/raceway-1/oxygen": 200,
					"stony-beck/pump/energy":      40,
					"stony-beck/mast/wind_from":   40,
				} {
					one, found := s.Find(path)
					require.True(t, found, path)
					rows, err := s.Read(t.Context(), one.ID, series.Readings, 0, 1<<62)
					require.NoError(t, err)
					assert.Equal(t, wanted, rows.Len(), path)
					minutes, err := s.Read(t.Context(), one.ID, series.Minute, 0, 1<<62)
					require.NoError(t, err)
					assert.NotZero(t, minutes.Len(), path)
				}
				rejects, err := s.Rejects.List(records.Wanting{Most: 10})
				require.NoError(t, err)
				require.Len(t, rejects, 1)
				assert.Contains(t, rejects[0].Reason, "-99.9")
				notes, err := s.Notes.Between(time.Unix(0, 0), time.Now().Add(time.Hour), 10,
					func(records.Note) bool { return true })
				require.NoError(t, err)
				var boards []records.Board
				require.NoError(t, s.Boards.Each(false, true, func(b records.Board) { boards = append(boards, b) }))
				if step >= "0007" {
					require.Len(t, notes, 1)
					assert.Equal(t, "probe cleaned", notes[0].Text)
				}
				if step >= "0008" {
					require.Len(t, boards, 1)
					assert.Equal(t, "Night at the raceways", boards[0].Title)
				}
				if step >= "0012" { // with a series that has all properties
					hour, err := series.ParseTiers([]string{"1m", "1h"})
					require.NoError(t, err)
					level, found := s.Find("stony-beck/tank/level")
					require.True(t, found)
					want := series.Definition{
						Path: "stony-beck/tank/level", Kind: series.Gauge, Unit: "cm", FreshFor: 90 * time.Second, Labels: "depth=3m", Tiers: hour,
						Thinning: series.Thinning{Method: series.Deadband, Within: 0.1, Silence: time.Hour},
					}
					assert.Equal(t, want, level.Definition)
					assert.Equal(t, uint64(474), level.Thinned.Arrived)
					assert.NotZero(t, level.ThinnedTo)
					assert.Equal(t, time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).UnixNano(), level.FirstSeen)
					assert.Equal(t, []any{9.0, true}, []any{level.LastValue, level.Collected})
					versions, err := s.Versions.Of(level.ID, level.Definition)
					require.NoError(t, err)
					require.Len(t, versions, 2)
					want.Unit, want.Calibration, want.Normal, want.Every = "m", "raw × 2 + 0, since 2026-03-01T08:00:00Z", "inner=1..3", 10*time.Second
					first := versions[1].Definition
					assert.Equal(t, want, first)
				}
				if step >= "0010" {
					all := outbox.Scope{Series: func(series.Path) bool { return true }}
					minutes := all
					minutes.Tiers = []series.Tier{series.Minute}
					box, err := s.Outboxes.Open("head-office", minutes)
					require.NoError(t, err)
					assert.JSONEq(t, `{"life":"a life","stored":7,"sessions":["first","second"]}`, string(box.Peer()))
					assert.NotZero(t, box.Backlog().Rows)
					box, err = s.Outboxes.Open("county", all)
					require.NoError(t, err)
					assert.JSONEq(t, `{"life":"","stored":0,"sessions":[]}`, string(box.Peer()))
				}
				_, err = s.Pushes.FirstArrival("a sender/a key", []byte("digest"), 7)
				require.NoError(t, err)
				require.NoError(t, s.Close())
			}
		})
	}
}

// What was damaged before a step stays damaged after it: the sum that a step writes must not say otherwise.
func TestAStepDoesNotMendWhatIsDamaged(t *testing.T) {
	rounds.Alone(t)
	file := olderStore(t, "testdata/stores/0010.db.gz")
	db, err := sqlite.Records(file, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.NoError(t, db.Exec("UPDATE series SET unit = 'K' WHERE path = 'stony-beck/raceway-1/oxygen'").Error)
	pool, err := db.DB()
	require.NoError(t, err)
	require.NoError(t, pool.Close())
	s, err := Open(file, slog.New(slog.DiscardHandler), Options{})
	require.NoError(t, err)
	defer s.Close()
	assert.EqualValues(t, 1, s.Damaged())
	_, found := s.Find("stony-beck/raceway-1/oxygen")
	assert.False(t, found)
	other, found := s.Find("stony-beck/pump/energy")
	require.True(t, found)
	assert.Equal(t, series.Counter, other.Kind)
	assert.NotZero(t, other.FreshFor)
}

// The steps make the tables that the models describe: a property that is added to a model without a step
// would be there in new stores only.
func TestTheStepsMakeTheTablesOfTheModels(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "nexocumula.db"), slog.New(slog.DiscardHandler), Options{})
	require.NoError(t, err)
	defer s.Close()
	tablestest.Same(t, writer(t, s),
		slices.Concat(sqlite.Tables(), engine.Tables(), outbox.Tables(), records.Tables())...)
}
