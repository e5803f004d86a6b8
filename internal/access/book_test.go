package access

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
)

// hands is a clock that stands until it is moved.
type hands struct {
	mu sync.Mutex
	at time.Time
}

func (h *hands) now() time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.at
}

func (h *hands) move(d time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.at = h.at.Add(d)
}

var (
	person = By{Who: "warden", Kind: "account", From: "10.0.0.1"}
	log    = slog.New(slog.DiscardHandler)
)

const words = "four words of trout"

func openIn(t *testing.T, dir string, clock *hands) *Book {
	t.Helper()
	b, err := Open(dir, Options{Now: clock.now, Log: log, Idle: DefaultIdle, Ends: DefaultEnds, Audit: DefaultAudit})
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	return b
}

func fresh(t *testing.T) (*Book, *hands) {
	t.Helper()
	clock := &hands{at: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)}
	return openIn(t, t.TempDir(), clock), clock
}

// with is an account with a password.
func with(t *testing.T, b *Book, name string, role Role, sees ...string) {
	t.Helper()
	scope, err := ParseScope(sees)
	require.NoError(t, err)
	code, err := b.AddAccount(person, name, Rights{role, scope})
	require.NoError(t, err)
	_, err = b.Redeem("10.0.0.1", strings.ToUpper(strings.ReplaceAll(code, "-", " ")), "", words) // however it is typed
	require.NoError(t, err)
}

func try(b *Book, name, password, from string) error {
	_, err := b.Login(Attempt{Account: name, Password: password, From: from, By: "console"})
	return err
}

func TestSessionsEndWhenUnusedAndInAnyCase(t *testing.T) {
	b, clock := fresh(t)
	with(t, b, "ranger", Viewer)
	s, err := b.Login(Attempt{Account: "ranger", Password: words, From: "10.0.0.2", By: "console"})
	require.NoError(t, err)
	idle, err := b.Login(Attempt{Account: "ranger", Password: words, From: "10.0.0.2", By: "console"})
	require.NoError(t, err)
	for range 59 { // every twelve hours but a minute
		clock.move(DefaultIdle - time.Minute)
		_, err = b.Who(s.Bearer, "10.0.0.2")
		require.NoError(t, err)
	}
	_, err = b.Who(idle.Bearer, "10.0.0.2")
	assert.ErrorContains(t, err, "the session is over")
	clock.move(DefaultIdle - time.Minute)
	clock.move(2 * time.Hour)
	_, err = b.Who(s.Bearer, "10.0.0.2")
	assert.ErrorContains(t, err, "the session is over", "after thirty days, however often it was used")
	b.endSessions()
	assert.Empty(t, b.Sessions("ranger"))
}

func TestWhatWasChangedIsThereAfterARestart(t *testing.T) {
	b, clock := fresh(t)
	with(t, b, "ranger", Operator, "stony-beck/#", "+/+/oxygen")
	s, err := b.Login(Attempt{Account: "ranger", Password: words, From: "10.0.0.2", Agent: strings.Repeat("é", 300), By: "console"})
	require.NoError(t, err)
	bearer, err := b.AddToken(person, "report", Rights{Role: Viewer}, clock.now().Add(time.Hour))
	require.NoError(t, err)
	require.NoError(t, b.Close())
	b = openIn(t, b.dir, clock)
	who, err := b.Who(s.Bearer, "10.0.0.2")
	require.NoError(t, err)
	assert.Equal(t, []any{"ranger", Operator, []string{"stony-beck/#", "+/+/oxygen"}}, []any{who.Name, who.Role, who.Scope.List()})
	_, err = b.Who(bearer, "10.0.0.3")
	require.NoError(t, err)
	clock.move(2 * time.Hour)
	_, err = b.Who(bearer, "10.0.0.3")
	assert.ErrorContains(t, err, "ended on 2026-03-01T09:00:00Z")
	for _, forged := range []string{"", "nxs_", bearer + "A", strings.ToLower(bearer), "nxt_AAAAAAAAAAAAAAAAAAAAAAAAAA", "Basic x"} {
		_, err = b.Who(forged, "10.0.0.3")
		assert.Error(t, err, forged)
	}
}

// Guessing becomes slow, for an account and for an address, and never locks its owner out.
func TestGuessingIsSlowAndTheOwnerGetsIn(t *testing.T) {
	b, clock := fresh(t)
	with(t, b, "ranger", Viewer)
	require.NoError(t, try(b, "ranger", words, "10.0.0.2"), "from where the owner is")
	looked := 0
	for i := range 3000 { // from another address each time, a second apart
		from := fmt.Sprintf("10.1.%d.%d", i/250, i%250)
		if wait := b.delays.left("ranger", from, false); wait == 0 {
			b.delays.fail("ranger", from)
			looked++
		}
		clock.move(time.Second)
	}
	assert.Less(t, looked, 80, "in 50 minutes")
	var soon *TooSoon
	b.delays.fail("ranger", "10.9.9.9")
	assert.ErrorAs(t, try(b, "ranger", words, "10.2.0.1"), &soon, "the right password from elsewhere has to wait too")
	require.NoError(t, try(b, "ranger", words, "10.0.0.2"), "but not from where it was right before")
	assert.LessOrEqual(t, soon.Wait, time.Minute)
	for i := range 200 { // codes that are none, from everywhere
		b.delays.fail("", fmt.Sprint("10.4.0.", i))
	}
	assert.Zero(t, b.delays.left("", "10.5.0.1", false), "keep nobody else from using his")
	for range 20 {
		b.delays.fail("nobody", "10.3.0.1")
	}
	assert.ErrorAs(t, try(b, "ranger", "wrong", "10.3.0.1"), &soon, "an address that guessed at others")
	clock.move(longestOfAddress + time.Second)
	require.NoError(t, try(b, "ranger", words, "10.3.0.1"), "a pause ends")
	for i := range 20 {
		b.delays.fail("nobody", fmt.Sprintf("2001:db8:1:2::%x", i))
	}
	assert.Positive(t, b.delays.left("", "2001:db8:1:2:ffff::1", false), "one party has all of a /64")
	assert.Zero(t, b.delays.left("", "2001:db8:1:3::1", false))
	for i := range 3 * mostFailed {
		b.delays.fail(fmt.Sprint("x", i), fmt.Sprint("y", i))
	}
	assert.LessOrEqual(t, len(b.delays.failed)+len(b.delays.before), 2*mostFailed)
}

// A million attempts take no room: what was refused is written together.
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
		b.Refuse(By{fmt.Sprint("guess-", i%50_000), "anyone", fmt.Sprint("10.0.", i%7)}, "login", "", "account, password or code is wrong")
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

// Whatever is typed as a name, little of it is remembered and written.
func TestNamesWithoutEndTakeNoRoom(t *testing.T) {
	b, _ := fresh(t)
	for i := range 3 {
		name := strings.Repeat("x", 1<<20+i)
		assert.Error(t, try(b, name, words, "10.0.0.2"))
		_, err := b.Redeem("10.0.0.2", name, name, words)
		assert.Error(t, err)
		_, err = b.Join("10.0.0.2", name, name)
		assert.Error(t, err)
	}
	for place := range b.delays.failed {
		assert.Less(t, len(place), 200)
	}
	found, err := b.Audit(Asked{Most: 100})
	require.NoError(t, err)
	for _, e := range found {
		assert.Less(t, len(e.Who+e.Target+e.Reason), 500)
	}
}

func TestThePasswordAloneIsNotEnoughWhereThereIsAnAuthenticator(t *testing.T) {
	b, clock := fresh(t)
	with(t, b, "ranger", Viewer)
	k, err := b.BeginAuthenticator("ranger", "Nexocumula")
	require.NoError(t, err)
	assert.ErrorContains(t, b.UseAuthenticator(person, "ranger", k.Secret, "000000"), "is its clock right?")
	code := func() string {
		text, err := totp.GenerateCode(k.Secret, clock.now())
		require.NoError(t, err)
		return text
	}
	used := code()
	require.NoError(t, b.UseAuthenticator(person, "ranger", k.Secret, used))
	login := func(code string) error {
		_, err := b.Login(Attempt{Account: "ranger", Password: words, Code: code, From: "10.0.0.2", By: "console"})
		return err
	}
	assert.ErrorIs(t, login(""), error(ErrSecondFactor))
	assert.ErrorIs(t, login(used), error(errNo), "a code counts once")
	clock.move(time.Minute)
	require.NoError(t, login(code()))
	clock.move(time.Minute)
	late := code()
	clock.move(2 * time.Minute)
	assert.ErrorIs(t, login(late), error(errNo))
	require.NoError(t, b.ForgetAuthenticator(person, "ranger"))
	require.NoError(t, login(""))

	require.NoError(t, b.UseAuthenticator(person, "ranger", k.Secret, code()))
	require.NoError(t, b.Close())
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, keyFile), []byte(strings.Repeat("0f", keyBytes)), 0o600))
	b = openIn(t, b.dir, clock)
	clock.move(time.Minute)
	assert.ErrorContains(t, login(code()), "encrypted with another key")
}

func TestCodesCountOnceAndForTheirTime(t *testing.T) {
	b, clock := fresh(t)
	first, err := b.AdministratorCode(By{Who: "nexocumula", Kind: "machine"})
	require.NoError(t, err)
	second, err := b.AdministratorCode(By{Who: "nexocumula", Kind: "machine"})
	require.NoError(t, err)
	_, err = b.Redeem("10.0.0.1", first, "warden", words)
	assert.ErrorContains(t, err, "the code is not known here", "another took its place")
	_, err = b.Redeem("10.0.0.1", second, "warden", "short")
	assert.ErrorContains(t, err, "take 12 or more")
	_, err = b.Redeem("10.0.0.1", second, "The Warden", words)
	assert.ErrorContains(t, err, "is no name")
	name, err := b.Redeem("10.0.0.1", second, "warden", words)
	require.NoError(t, err)
	assert.Equal(t, "warden", name)
	assert.True(t, b.Governed())
	_, err = b.Redeem("10.0.0.1", second, "warden", words)
	assert.ErrorContains(t, err, "or it was used")
	code, err := b.AddAccount(person, "ranger", Rights{Role: Viewer})
	require.NoError(t, err)
	_, err = b.Redeem("10.0.0.1", code, "warden", words)
	assert.ErrorContains(t, err, "for another account")
	clock.move(8 * 24 * time.Hour)
	_, err = b.Redeem("10.0.0.1", code, "", words)
	assert.ErrorContains(t, err, "was good until 2026-03-08T08:00:00Z")
	assert.ErrorContains(t, b.RemoveAccount(person, "warden"), "the last administrator")
	viewer := Viewer
	assert.ErrorContains(t, b.ChangeAccount(person, "warden", Change{Role: &viewer}), "the last administrator")
	_, err = b.LoginByCode(Attempt{Code: code, From: "10.0.0.1", By: "command line"})
	assert.ErrorContains(t, err, "was good until")
	other, err := b.PasswordCode(person, "ranger")
	require.NoError(t, err)
	_, err = b.LoginByCode(Attempt{Code: other, From: "10.0.0.1", By: "command line"})
	assert.ErrorIs(t, err, error(ErrPasswordCode))
	session, err := b.SessionCode(person, "warden")
	require.NoError(t, err)
	_, err = b.Redeem("10.0.0.1", session, "warden", words)
	assert.ErrorContains(t, err, "it sets no password")
	begun, err := b.LoginByCode(Attempt{Code: session, From: "10.0.0.1", By: "command line"})
	require.NoError(t, err)
	who, err := b.Who(begun.Bearer, "10.0.0.1")
	require.NoError(t, err)
	assert.Equal(t, "warden", who.Name)
	_, err = b.LoginByCode(Attempt{Code: session, From: "10.0.0.1", By: "command line"})
	assert.ErrorContains(t, err, "or it was used")
	recovered, err := Recover(b.dir, b.options) // beside the running one
	require.NoError(t, err)
	_, err = b.Redeem("10.0.0.1", recovered, "warden", "another four words")
	require.NoError(t, err)
	assert.Error(t, try(b, "warden", words, "10.0.0.1"))
	assert.NoError(t, try(b, "warden", "another four words", "10.0.0.1"))
}

func TestAGatewaysCredentialIsItsOwnIsRenewedAndRevoked(t *testing.T) {
	b, clock := fresh(t)
	code, _, err := b.Enrol(person, "long-mere", []string{"long-mere"})
	require.NoError(t, err)
	_, err = b.Join("10.0.0.9", "stony-beck", code)
	assert.ErrorContains(t, err, "for another gateway")
	first, err := b.Join("10.0.0.9", "long-mere", code)
	require.NoError(t, err)
	_, err = b.Join("10.0.0.9", "long-mere", code)
	assert.ErrorContains(t, err, "or it was used")
	good := func(bearer string) Credential {
		c, err := b.CheckCredential("long-mere", bearer, "10.0.0.9")
		require.NoError(t, err)
		return c
	}
	assert.True(t, good(first).Good)
	lost, err := b.Renew("long-mere") // the answer never came
	require.NoError(t, err)
	second, err := b.Renew("long-mere")
	require.NoError(t, err)
	assert.True(t, good(first).Good, "until the new one is used")
	assert.False(t, good(lost).Good)
	assert.True(t, good(second).Good)
	assert.False(t, good(first).Good, "and not after")
	assert.Contains(t, good(first).Why, "restored from a copy")
	require.NoError(t, b.Close())
	b = openIn(t, b.dir, clock)
	assert.True(t, good(second).Good)
	require.NoError(t, b.RevokeGateway(person, "long-mere"))
	revoked := good(second)
	assert.True(t, revoked.Revoked && !revoked.Good)
	assert.Contains(t, revoked.Why, "revoked on 2026-03-01T08:00:00Z")
	assert.NotContains(t, good("nxg_guess").Why, "revoked", "nobody else learns of it")
	again, _, err := b.Enrol(person, "long-mere", []string{"long-mere"})
	require.NoError(t, err)
	third, err := b.Join("10.0.0.9", "long-mere", again)
	require.NoError(t, err)
	assert.True(t, good(third).Good)
	clock.move(2 * time.Hour)
	old, _, err := b.Enrol(person, "stony-beck", []string{"stony-beck"})
	require.NoError(t, err)
	clock.move(61 * time.Minute)
	_, err = b.Join("10.0.0.9", "stony-beck", old)
	assert.ErrorContains(t, err, "was good until")
}

// Whatever is done to the entries shows.
func TestTheAuditShowsWhatWasDoneToIt(t *testing.T) {
	for name, test := range map[string]struct{ sql, says string }{
		"one is removed":        {"DELETE FROM audit WHERE id = 4", "1 entries are missing between 3 and 5"},
		"one is changed":        {"UPDATE audit SET who = 'nobody' WHERE id = 4", "entry 4 is not as it was written"},
		"the first is removed":  {"DELETE FROM audit WHERE id = 1", "the entries before 2 are missing"},
		"the newest is removed": {"DELETE FROM audit WHERE id = 8", "entry 8, which audit.head has noted, is missing"},
		"all are removed":       {"DELETE FROM audit", "entry 8, which audit.head has noted, is missing"},
		"one is moved":          {"UPDATE audit SET id = 100 WHERE id = 4", "missing between"},
		"a sum is written anew": {"UPDATE audit SET sum = previous WHERE id = 4", "entry 5 does not follow from entry 4"},
		"a drop is made up":     {"DELETE FROM audit WHERE id <= 3", "the entries before 4 are missing"},
		"nothing":               {"SELECT 1", ""},
	} {
		t.Run(name, func(t *testing.T) {
			b, _ := fresh(t)
			for i := range 8 {
				require.NoError(t, b.Note(person, Entry{Action: "reload", Target: fmt.Sprint(i), Outcome: Done, After: state(map[string]int{"n": i})}))
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

// Entries that are too old go, and the chain says so; what follows still holds, by a
// calculation of its own from what is exported.
func TestOldEntriesGoAndTheChainHolds(t *testing.T) {
	b, clock := fresh(t)
	for i := range 5 {
		require.NoError(t, b.Note(person, Entry{Action: "reload", Target: fmt.Sprintf("<%d> & \"é\"", i), Outcome: Failed, Reason: "why\nnot"}))
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
		require.NoError(t, enc.Encode([]any{e.Previous, e.ID, e.Time, e.Who, e.Kind, e.From, e.Action, e.Target, e.Outcome, e.Reason, e.Times, raw(e.Before), raw(e.After)}))
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

// Who has the file has nothing that lets him in.
func TestAStolenFileLetsNobodyIn(t *testing.T) {
	b, clock := fresh(t)
	with(t, b, "ranger", Viewer)
	k, err := b.BeginAuthenticator("ranger", "Nexocumula")
	require.NoError(t, err)
	now, err := totp.GenerateCode(k.Secret, clock.now())
	require.NoError(t, err)
	s, err := b.Login(Attempt{Account: "ranger", Password: words, From: "10.0.0.2", By: "console"})
	require.NoError(t, err)
	require.NoError(t, b.UseAuthenticator(person, "ranger", k.Secret, now))
	bearer, err := b.AddToken(person, "report", Rights{Role: Viewer}, time.Time{})
	require.NoError(t, err)
	code, _, err := b.Enrol(person, "long-mere", []string{"long-mere"})
	require.NoError(t, err)
	credential, err := b.Join("10.0.0.9", "long-mere", code)
	require.NoError(t, err)
	open, err := b.AdministratorCode(person)
	require.NoError(t, err)
	require.NoError(t, b.Close())
	secrets := []string{words, k.Secret, s.Bearer, bearer, code, plainCode(code), credential, open, plainCode(open)}
	files, err := filepath.Glob(filepath.Join(b.dir, "*"))
	require.NoError(t, err)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		about, err := os.Stat(file)
		require.NoError(t, err)
		assert.Zero(t, about.Mode().Perm()&0o077, "%s is for its owner only", file)
		for _, secret := range secrets {
			assert.False(t, bytes.Contains(text, []byte(secret)), "%s holds %q", file, secret)
			assert.False(t, bytes.Contains(text, []byte(strings.TrimPrefix(secret, "nxt_"))), "%s holds %q", file, secret)
		}
	}
}

func TestScopesAgainstASlowCalculation(t *testing.T) {
	paths := []series.Path{"a/b", "a/b/c", "a/c/b", "b/b/c", "a/b/c/d", "b/c"}
	texts := []string{"a/#", "+/b/#", "a/+/c", "a/b/c", "#", "+/+", "+/+/+", "b/#", "+/#", "a/b/#"}
	for _, one := range texts {
		narrow, err := ParseScope([]string{one})
		require.NoError(t, err)
		for _, two := range texts {
			wide, err := ParseScope([]string{two})
			require.NoError(t, err)
			if narrow.Within(wide) {
				for _, p := range paths {
					assert.True(t, !narrow.Sees(p) || wide.Sees(p), "%s within %s, %s", one, two, p)
				}
			}
		}
		for _, site := range []string{"a", "b"} {
			sees, all := false, true
			for _, p := range paths {
				if strings.HasPrefix(string(p), site+"/") {
					sees, all = sees || narrow.Sees(p), all && narrow.Sees(p)
				}
			}
			assert.True(t, !sees || narrow.Touches(site), "%s touches %s", one, site)
			assert.True(t, !narrow.Covers(site) || all, "%s covers %s", one, site)
		}
	}
	_, err := ParseScope([]string{"a/#/b"})
	assert.ErrorContains(t, err, "# may only be the last level")
}

// An older copy that is put in place brings back what was revoked; it ends all sessions, says
// so, and stays in the audit.
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

// The key may come from systemd, and stands in no file of the service's then.
func TestTheKeyMayBeHandedOver(t *testing.T) {
	handed := t.TempDir()
	t.Setenv("CREDENTIALS_DIRECTORY", handed)
	require.NoError(t, os.WriteFile(filepath.Join(handed, KeyCredential), []byte(strings.Repeat("a7", keyBytes)+"\n"), 0o400))
	b, _ := fresh(t)
	assert.NoFileExists(t, filepath.Join(b.dir, keyFile))
	sealed, err := b.key.seal([]byte("secret"), "ranger")
	require.NoError(t, err)
	text, err := b.key.open(sealed, "ranger")
	require.NoError(t, err)
	assert.Equal(t, "secret", string(text))
	_, err = b.key.open(sealed, "warden")
	assert.Error(t, err, "what was put under another name is refused")
	_, err = b.key.open(sealed[:5], "ranger")
	assert.ErrorContains(t, err, "cut short")
	for _, bad := range []string{"", "a7", strings.Repeat("zz", keyBytes)} {
		require.NoError(t, os.WriteFile(filepath.Join(handed, KeyCredential), []byte(bad), 0o600))
		without, err := Open(t.TempDir(), b.options)
		require.NoError(t, err, "what is collected does not wait for it")
		assert.ErrorContains(t, without.Trouble(), "64 hexadecimal digits", bad)
		_, err = without.key.seal([]byte("x"), "ranger")
		assert.ErrorContains(t, err, "see /health")
		require.NoError(t, without.Close())
	}
}

// A crash between the entry and the note of it, and a disk that takes no more.
func TestTheAuditAtItsLimits(t *testing.T) {
	b, clock := fresh(t)
	file := filepath.Join(b.dir, headFile)
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

// A file of a newer program is refused; what cannot be read of it is left out, and reported.
func TestWhatCannotBeReadIsLeftOut(t *testing.T) {
	b, clock := fresh(t)
	for says, sql := range map[string]string{
		"is no role":             "UPDATE accounts SET role = 'poet' WHERE name = 'ranger'",
		"# may only be the last": "UPDATE accounts SET selectors = '#/x' WHERE name = 'ranger'",
		"token report":           "UPDATE tokens SET role = 'poet'",
	} {
		copied := openIn(t, t.TempDir(), clock)
		with(t, copied, "ranger", Viewer, "stony-beck/#")
		with(t, copied, "warden", Administrator)
		_, err := copied.AddToken(person, "report", Rights{Role: Viewer}, time.Time{})
		require.NoError(t, err)
		require.NoError(t, copied.db.Exec(sql).Error)
		require.NoError(t, copied.Close())
		copied = openIn(t, copied.dir, clock)
		assert.ErrorContains(t, copied.Trouble(), says)
		assert.NoError(t, try(copied, "warden", words, "10.0.0.1"), "the others go on")
		assert.Equal(t, says == "token report", try(copied, "ranger", words, "10.0.0.1") == nil)
	}
	require.NoError(t, b.db.Exec("INSERT INTO migrations (id) VALUES ('9999-later')").Error)
	require.NoError(t, b.Close())
	_, err := Open(b.dir, b.options)
	assert.ErrorContains(t, err, "newer version")
}

// A damaged file is set aside, so that what is collected does not wait for it: nobody is let in
// by it, and it is reported until somebody has looked.
func TestADamagedFileIsSetAside(t *testing.T) {
	for name, spoil := range map[string]func([]byte) []byte{
		"flipped":   func(text []byte) []byte { copy(text[100:], bytes.Repeat([]byte{0xa5}, 4000)); return text },
		"cut short": func(text []byte) []byte { return text[:len(text)/2] },
		"no header": func(text []byte) []byte { return bytes.Repeat([]byte("no database "), 1000) },
	} {
		t.Run(name, func(t *testing.T) {
			b, clock := fresh(t)
			with(t, b, "ranger", Viewer)
			require.NoError(t, b.Close())
			file := filepath.Join(b.dir, File)
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, spoil(text), 0o600))
			b = openIn(t, b.dir, clock)
			assert.ErrorContains(t, b.Trouble(), "is not the file that was there before")
			assert.False(t, b.Governed())
			assert.Error(t, try(b, "ranger", words, "10.0.0.1"))
			aside, err := filepath.Glob(file + ".damaged-*")
			require.NoError(t, err)
			assert.NotEmpty(t, aside, "it is kept as it was found")
			code, err := b.AdministratorCode(person)
			require.NoError(t, err)
			_, err = b.Redeem("10.0.0.1", code, "warden", words)
			assert.NoError(t, err, "and can be begun anew")
		})
	}
}
