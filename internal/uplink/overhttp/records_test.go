package overhttp

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/store"
	"nexocumula/internal/store/records"
)

// notesOf returns what the notes of a store say, the newest first.
func notesOf(t *testing.T, st *store.Store) (out []string) {
	t.Helper()
	found, err := st.Notes.Between(time.Unix(0, 0), time.Now().Add(time.Hour), 1000,
		func(records.Note) bool { return true })
	require.NoError(t, err)
	for _, n := range found {
		out = append(out, n.About+": "+n.Text)
	}
	return out
}

func (s *site) pin(about, text string) records.Note {
	n, err := s.store.Notes.Add(records.Note{
		At:      time.Now(),
		About:   about,
		Text:    text,
		Author:  "warden",
		Written: time.Now(),
	})
	require.NoError(s.t, err)
	time.Sleep(time.Second) // so that the next is of a later time
	return n
}

func TestNotesArriveAreRemovedAndSurviveWhatTheNetworkDoes(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		o.spoil = func(n int) string { return []string{"drop", "lose answer", "fail", ""}[n%4] }
		first := s.pin("long-mere/buoy-1", "the probe was cleaned")
		s.pin("stony-beck/raceway-1", "of another site")
		s.pin("long-mere", "ice on the lake")
		assert.Equal(t, 3, s.sender.Outbox().Backlog().Records)
		s.roll(3)
		stop := s.run()
		time.Sleep(time.Minute)
		assert.Equal(t, []string{"long-mere: ice on the lake", "long-mere/buoy-1: the probe was cleaned"},
			notesOf(t, o.store))
		assert.Zero(t, s.sender.Outbox().Backlog().Records)
		require.NoError(t, s.store.Notes.Remove(first.ID))
		time.Sleep(time.Minute)
		stop()
		assert.Equal(t, []string{"long-mere: ice on the lake"}, notesOf(t, o.store))
		assert.Equal(t, 3, o.count())
		assert.Zero(t, s.sender.Tally().RefusedRecords)
	})
}

func TestACentralThatLostItsDiskGetsTheNotesAgain(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		s.roll(2)
		s.pin("long-mere/buoy-1", "the probe was cleaned")
		stop := s.run()
		time.Sleep(time.Minute)
		require.Len(t, notesOf(t, o.store), 1)
		o.stop()
		o.open(filepath.Join(memory(t), "new.db"))
		require.Empty(t, notesOf(t, o.store))
		time.Sleep(2 * time.Minute)
		stop()
		assert.Len(t, notesOf(t, o.store), 1)
	})
}

// A copy of the gateway's store from before a note was removed does not bring it back.
func TestARestoredCopyDoesNotUndoTheRemovalOfANote(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		note := s.pin("long-mere/buoy-1", "the probe was cleaned")
		older := copyStore(t, s.store, memory(t))
		require.NoError(t, s.store.Notes.Remove(note.ID))
		_, err := s.sender.SendOnce(t.Context())
		require.NoError(t, err)
		again := newSite(t, older, o)
		require.Len(t, notesOf(t, again.store), 1)
		again.pin("long-mere/buoy-1", "calibrated")
		stop := again.run()
		time.Sleep(10 * time.Minute)
		stop()
		assert.Equal(t, []string{"long-mere/buoy-1: calibrated"}, notesOf(t, o.store))
		require.NoError(t, again.store.Close())
	})
}

// What was acknowledged before a crash may be sent again, and is there once.
func TestNotesThatAreSentAgainAreThereOnce(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		s.pin("long-mere/buoy-1", "the probe was cleaned")
		copied := copyStore(t, s.store, memory(t))
		for _, sender := range []*site{s, newSite(t, copied, o)} {
			_, err := sender.sender.SendOnce(t.Context())
			require.NoError(t, err)
			assert.Zero(t, sender.sender.Outbox().Backlog().Records)
			if sender != s {
				require.NoError(t, sender.store.Close())
			}
		}
		assert.Len(t, notesOf(t, o.store), 1)
	})
}

func TestManyNotesThatWaitedArriveAtOnce(t *testing.T) {
	together(t, func(t *testing.T, o *office, s *site) {
		for range 450 { // more than two batches hold
			_, err := s.store.Notes.Add(records.Note{
				At:      time.Now(),
				About:   "long-mere",
				Text:    "ice",
				Author:  "warden",
				Written: time.Now(),
			})
			require.NoError(t, err)
		}
		stop := s.run()
		time.Sleep(3 * time.Second) // less than the pause after which an idle sender looks again
		stop()
		assert.Len(t, notesOf(t, o.store), 450)
	})
}
