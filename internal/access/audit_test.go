package access

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAMillionRefusalsAreFewEntries(t *testing.T) {
	b, _ := fresh(t)
	attempts := 1_000_000
	if testing.Short() {
		attempts = 50_000
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	for i := range attempts {
		b.Refuse(By{fmt.Sprint("guess-", i%50_000), "anyone", fmt.Sprint("10.0.", i%7)}, "login", "",
			"account, password or code is wrong")
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(4<<20))
	b.writeRefusals(true)
	found, err := b.Audit(Asked{Most: 10_000})
	require.NoError(t, err)
	total := 0
	for _, e := range found {
		total += e.Times
	}
	assert.Equal(t, attempts, total, "every one is counted")
	assert.Less(t, len(found), 1000)
	v, err := b.Verify()
	require.NoError(t, err)
	assert.Empty(t, v.Problems)
}

func TestTheAuditShowsWhatWasDoneToIt(t *testing.T) {
	for name, test := range map[string]struct{ sql, says string }{
		"one is removed":        {"DELETE FROM audit WHERE id = 4", "1 entries are missing between 3 and 5"},
		"one is changed":        {"UPDATE audit SET who = 'nobody' WHERE id = 4", "entry 4 is not as it was written"},
		"the first is removed":  {"DELETE FROM audit WHERE id = 1", "the entries before 2 are missing"},
		"the newest is removed": {"DELETE FROM audit WHERE id = 8", "entry 8, which audit.head has noted, is missing"},
		"all are removed":       {"DELETE FROM audit", "entry 8, which audit.head has noted, is missing"},
		"one is moved":          {"UPDATE audit SET id = 100 WHERE id = 4", "missing between"},
		"a sum is written anew": {
			"UPDATE audit SET sum = previous WHERE id = 4", "entry 5 does not follow from entry 4",
		},
		"a drop is made up": {"DELETE FROM audit WHERE id <= 3", "the entries before 4 are missing"},
		"nothing":           {"SELECT 1", ""},
	} {
		t.Run(name, func(t *testing.T) {
			b, _ := fresh(t)
			for i := range 8 {
				require.NoError(t, b.Note(person, Entry{
					Action:  "reload",
					Target:  fmt.Sprint(i),
					Outcome: Done,
					After:   state(map[string]int{"n": i}),
				}))
			}
			require.NoError(t, b.db.Exec(test.sql).Error)
			v, err := b.Verify()
			require.NoError(t, err)
			if test.says == "" {
				assert.Empty(t, v.Problems)
				return
			}
			assert.Contains(t, strings.Join(v.Problems, "\n"), test.says)
		})
	}
}

func TestOldEntriesGoAndTheChainHolds(t *testing.T) {
	b, clock := fresh(t)
	for i := range 5 {
		require.NoError(t, b.Note(person, Entry{
			Action:  "reload",
			Target:  fmt.Sprintf("<%d> & \"é\"", i),
			Outcome: Failed,
			Reason:  "why\nnot",
		}))
		clock.move(100 * 24 * time.Hour)
	}
	require.NoError(t, b.dropOldAudit())
	found, err := b.Audit(Asked{Most: 100})
	require.NoError(t, err)
	require.Len(t, found, 5, "four and the one that says what went")
	assert.Equal(t, actionDrop, found[0].Action)
	v, err := b.Verify()
	require.NoError(t, err)
	assert.Empty(t, v.Problems)
	for i, e := range found {
		var text bytes.Buffer
		enc := json.NewEncoder(&text)
		enc.SetEscapeHTML(false)
		raw := func(r json.RawMessage) string {
			if string(r) == "null" {
				return ""
			}
			return string(r)
		}
		require.NoError(t, enc.Encode([]any{
			e.Previous, e.ID, e.Time, e.Who, e.Kind, e.From, e.Action, e.Target, e.Outcome, e.Reason, e.Times,
			raw(e.Before), raw(e.After),
		}))
		sum := sha256.Sum256(bytes.TrimSpace(text.Bytes()))
		assert.Equal(t, e.Sum, hex.EncodeToString(sum[:]), "entry %d", e.ID)
		if i > 0 {
			assert.Equal(t, found[i-1].Previous, e.Sum)
		}
	}
	require.NoError(t, b.dropOldAudit())
	again, err := b.Audit(Asked{Most: 100})
	require.NoError(t, err)
	assert.Len(t, again, 5, "nothing more to drop, nothing more to say")
}

func TestAnOlderCopySaysSo(t *testing.T) {
	b, clock := fresh(t)
	with(t, b, "ranger", Viewer)
	s, err := b.Login(Attempt{Account: "ranger", Password: words, From: "10.0.0.2", By: "console"})
	require.NoError(t, err)
	require.NoError(t, b.Close())
	copied, err := os.ReadFile(filepath.Join(b.dir, File))
	require.NoError(t, err)
	b = openIn(t, b.dir, clock)
	require.NoError(t, b.Trouble())
	_, err = b.Who(s.Bearer, "10.0.0.2")
	require.NoError(t, err)
	require.NoError(t, b.RemoveAccount(person, "ranger"))
	require.NoError(t, b.Close())
	for _, file := range []string{File + "-wal", File + "-shm"} {
		_ = os.Remove(filepath.Join(b.dir, file))
	}
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, File), copied, 0o600))
	b = openIn(t, b.dir, clock)
	assert.ErrorContains(t, b.Trouble(), "may count again")
	_, err = b.Who(s.Bearer, "10.0.0.2")
	assert.Error(t, err)
	found, err := b.Audit(Asked{Action: "audit.older", Most: 1})
	require.NoError(t, err)
	assert.Len(t, found, 1)
	require.NoError(t, b.Close())
	b = openIn(t, b.dir, clock)
	assert.NoError(t, b.Trouble(), "once it was noted, the file is the one that was there before")
}

func TestTheAuditAtItsLimits(t *testing.T) {
	b, clock := fresh(t)
	file := filepath.Join(b.dir, HeadFile)
	require.NoError(t, b.Note(person, Entry{Action: "reload", Outcome: Done}))
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, b.Note(person, Entry{Action: "reload", Outcome: Done}))
	require.NoError(t, b.Close())
	require.NoError(t, os.WriteFile(file, before, 0o600)) // the note of the second was not written
	b = openIn(t, b.dir, clock)
	require.NoError(t, b.Trouble())
	v, err := b.Verify()
	require.NoError(t, err)
	assert.Empty(t, v.Problems)

	require.NoError(t, os.Remove(file))
	require.NoError(t, os.MkdirAll(filepath.Join(file, "full"), 0o700)) // it cannot be written any more
	require.NoError(t, b.Note(person, Entry{Action: "reload", Outcome: Done}))
	assert.ErrorContains(t, b.Trouble(), "could not be noted outside")
	require.NoError(t, os.RemoveAll(file))
	require.NoError(t, b.Note(person, Entry{Action: "reload", Outcome: Done}))
	assert.NoError(t, b.Trouble(), "and can again")

	require.NoError(t, b.Close())
	assert.Error(t, b.Note(person, Entry{Action: "reload", Outcome: Done}))
	assert.ErrorContains(t, b.Trouble(), "an entry could not be written")
	_, err = b.AddToken(person, "report", Rights{Role: Viewer}, time.Time{})
	assert.Error(t, err)
	assert.Empty(t, b.Tokens(), "what is not on disk does not count")
}
