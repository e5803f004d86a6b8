package records_test

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/rounds"
	"nexocumula/internal/store"
	"nexocumula/internal/store/records"
)

var morning = time.Date(2026, 11, 3, 7, 0, 0, 0, time.UTC)

func shelf(t *testing.T) *store.Store {
	st, err := store.Open(filepath.Join(t.TempDir(), "boards.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, st.Close()) })
	return st
}

func titles(t *testing.T, st *store.Store, removed bool) (out []string) {
	require.NoError(t,
		st.Boards.Each(removed, true, func(b records.Board) { out = append(out, b.Title+"/"+b.Content) }))
	return out
}

func versions(t *testing.T, st *store.Store, id uint64) (out []int) {
	require.NoError(t, st.Boards.EachVersion(id, false, func(b records.Board) { out = append(out, b.Version) }))
	return out
}

func TestABoardKeepsItsLastVersions(t *testing.T) {
	rounds.Alone(t)
	st := shelf(t)
	b, err := st.Boards.Save(records.Board{Title: "night", Content: "1", Saved: morning})
	require.NoError(t, err)
	for i := 2; i <= 130; i++ {
		b.Content = fmt.Sprint(i)
		b, err = st.Boards.Save(*b)
		require.NoError(t, err)
	}
	history := versions(t, st, b.ID)
	assert.Len(t, history, 100)
	assert.Equal(t, 130, history[0])
	assert.Equal(t, []string{"night/130"}, titles(t, st, false))
	old, err := st.Boards.Get(b.ID, 31)
	require.NoError(t, err)
	assert.Equal(t, "31", old.Content)
	gone, err := st.Boards.Get(b.ID, 30)
	assert.NoError(t, err)
	assert.Nil(t, gone)
	none, err := st.Boards.Save(records.Board{ID: 99, Version: 1})
	assert.NoError(t, err)
	assert.Nil(t, none)
}

// Of many who change one version, one is saved, and the others are told.
func TestOfManyWhoChangeABoardOneIsSaved(t *testing.T) {
	st := shelf(t)
	b, err := st.Boards.Save(records.Board{Title: "night", Author: "ranger", Saved: morning})
	require.NoError(t, err)
	var all sync.WaitGroup
	var mu sync.Mutex
	saved, told := 0, 0
	for i := range 20 {
		all.Go(func() {
			mine := *b
			mine.Content = fmt.Sprint(i)
			_, err := st.Boards.Save(mine)
			mu.Lock()
			defer mu.Unlock()
			var changed *records.ErrChanged
			switch {
			case err == nil:
				saved++
			case assert.ErrorAs(t, err, &changed):
				told++
			}
		})
	}
	all.Wait()
	assert.Equal(t, 1, saved)
	assert.Equal(t, 19, told)
}

func TestABoardThatWasTakenAwayIsForgottenAfterAWhile(t *testing.T) {
	st := shelf(t)
	b, err := st.Boards.Save(records.Board{Title: "night", Content: "x", Saved: morning})
	require.NoError(t, err)
	b.Removed = true
	_, err = st.Boards.Save(*b)
	require.NoError(t, err)
	assert.Empty(t, titles(t, st, false))
	assert.Equal(t, []string{"night/x"}, titles(t, st, true))
	_, err = st.Boards.Save(records.Board{Title: "day", Saved: morning.Add(91 * 24 * time.Hour)})
	require.NoError(t, err)
	assert.Empty(t, titles(t, st, true))
	assert.Empty(t, versions(t, st, b.ID))
}

func TestThereAreNotBoardsWithoutEnd(t *testing.T) {
	st := shelf(t)
	for range records.MostBoards {
		_, err := st.Boards.Save(records.Board{Title: "x", Saved: morning})
		require.NoError(t, err)
	}
	_, err := st.Boards.Save(records.Board{Title: "one more", Saved: morning})
	assert.ErrorIs(t, err, records.ErrFull)
	assert.Empty(t, st.Troubles(), "that is no trouble of the store")
}
