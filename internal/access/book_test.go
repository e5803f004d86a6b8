package access

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
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
	s, err := b.Login(Attempt{
		Account:  "ranger",
		Password: words,
		From:     "10.0.0.2",
		Agent:    strings.Repeat("é", 300),
		By:       "console",
	})
	require.NoError(t, err)
	bearer, err := b.AddToken(person, "report", Rights{Role: Viewer}, clock.now().Add(time.Hour))
	require.NoError(t, err)
	require.NoError(t, b.Close())
	b = openIn(t, b.dir, clock)
	who, err := b.Who(s.Bearer, "10.0.0.2")
	require.NoError(t, err)
	assert.Equal(t, []any{"ranger", Operator, []string{"stony-beck/#", "+/+/oxygen"}},
		[]any{who.Name, who.Role, who.Scope.List()})
	_, err = b.Who(bearer, "10.0.0.3")
	require.NoError(t, err)
	clock.move(2 * time.Hour)
	_, err = b.Who(bearer, "10.0.0.3")
	assert.ErrorContains(t, err, "ended on 2026-03-01T09:00:00Z")
	for _, forged := range []string{
		"", "nxs_", bearer + "A", strings.ToLower(bearer), "nxt_AAAAAAAAAAAAAAAAAAAAAAAAAA", "Basic x",
	} {
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
// Entries that are too old go, and the chain says so; what follows still holds, by a
// calculation of its own from what is exported.
// Who has the file has nothing that lets him in.
func TestScopesAgainstASlowCalculation(t *testing.T) {
	paths := []series.Path{"a/b", "a/b/c", "a/c/b", "b/b/c", "a/b/c/d", "b/c"}
	texts := []string{"a/#", "+/b/#", "a/+/c", "a/b/c", "#", "+/+", "+/+/+", "b/#", "+/#", "a/b/#"}
	for _, one := range texts {
		narrow, err := ParseScope([]string{one})
		require.NoError(t, err)
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
// The key may come from systemd, and stands in no file of the service's then.
// A crash between the entry and the note of it, and a disk that takes no more.
// A file of a newer program is refused; what cannot be read of it is left out, and reported.
// A damaged file is set aside, so that what is collected does not wait for it: nobody is let in
// by it, and it is reported until somebody has looked.
