package overhttp

import (
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/access"
	"nexocumula/internal/config"
)

// renew returns the other call that a central answers.
func (o *office) renew(req *http.Request, how string) (*http.Response, error) {
	bearer := strings.TrimPrefix(req.Header.Get("Authorization"), "Bearer ")
	c, err := o.book.CheckCredential("long-mere", bearer, "a test")
	if err != nil {
		return nil, err
	}
	if !c.Good {
		return answer(http.StatusUnauthorized, `{"code":"token","detail":"no"}`), nil
	}
	next, err := o.book.Renew("long-mere")
	if err != nil {
		return nil, err
	}
	if how == "lose answer" {
		return nil, errCut
	}
	return answer(http.StatusOK, fmt.Sprintf(`{"gateway":"long-mere","secret":%q}`, next)), nil
}

// A gateway that has not joined says so, takes a credential over while it runs, and renews it
// when it has become old. An answer that is lost on the way does not cut it off.
func TestACredentialComesAndIsRenewed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := memory(t)
		book, err := access.Open(filepath.Join(dir, "book"), access.Options{
			Now:   time.Now,
			Log:   quiet,
			Idle:  access.DefaultIdle,
			Ends:  access.DefaultEnds,
			Audit: access.DefaultAudit,
		})
		require.NoError(t, err)
		defer book.Close()
		o := &office{t: t, spoil: func(int) string { return "" }, book: book}
		o.open(filepath.Join(dir, "central.db"))
		defer func() { o.stop() }()
		file := CredentialFile(dir, "head-office")
		s := &site{t: t, store: openStore(t, filepath.Join(dir, "gateway.db"))}
		defer func() { assert.NoError(t, s.store.Close()) }()
		s.connectIn(config.Uplink{Name: "head-office", Settings: Settings{URL: "http://office"}}, dir, o)
		stop := s.run()
		defer func() { stop() }()
		s.roll(3)
		time.Sleep(time.Minute)
		assert.Contains(t, s.sender.Tally().LastError, "run nexocumula gateway add long-mere there")
		assert.Positive(t, s.waiting(), "nothing is lost meanwhile")

		by := access.By{Who: "warden", Kind: "account"}
		code, _, err := book.Enrol(by, "long-mere", []string{"long-mere"})
		require.NoError(t, err)
		bearer, err := book.Join("a test", "long-mere", code)
		require.NoError(t, err)
		require.NoError(t, Credential{Gateway: "long-mere", Secret: bearer, Since: time.Now()}.Save(file))
		time.Sleep(time.Minute)
		assert.Zero(t, s.waiting())
		assert.True(t, s.sender.Tally().Up)

		present := func() Credential {
			c, err := LoadCredential(file)
			require.NoError(t, err)
			return c
		}
		old := func() {
			c := present()
			c.Since = time.Now().Add(-renewAfter - time.Hour)
			require.NoError(t, c.Save(file))
		}
		time.Sleep(2 * time.Minute)
		assert.Equal(t, bearer, present().Secret, "one that is young stays")
		old()
		time.Sleep(time.Minute)
		second := present().Secret
		assert.NotEqual(t, bearer, second)
		s.roll(1)
		time.Sleep(time.Minute)
		assert.Zero(t, s.waiting(), "and counts")

		lose := true
		o.mu.Lock()
		o.spoil = func(int) string {
			if lose {
				return "lose answer"
			}
			return ""
		}
		o.mu.Unlock()
		time.Sleep(askAgain)
		old()
		o.mu.Lock()
		lose = false
		o.mu.Unlock()
		time.Sleep(time.Minute) // its answer comes; the ones before were lost
		third := present().Secret
		assert.NotEqual(t, second, third)
		s.roll(1)
		time.Sleep(time.Minute)
		assert.Zero(t, s.waiting())

		require.NoError(t, book.RevokeGateway(by, "long-mere"))
		s.roll(2)
		time.Sleep(time.Minute)
		assert.Contains(t, s.sender.Tally().LastError, "stays at the gateway until it is enrolled anew")
		assert.Positive(t, s.waiting())
	})
}

func TestACredentialThatCannotBeUsedSaysWhy(t *testing.T) {
	dir := t.TempDir()
	file := CredentialFile(dir, "head-office")
	require.NoError(t, Credential{Gateway: "long-mere"}.Save(file))
	_, err := LoadCredential(file)
	assert.ErrorContains(t, err, "there is no secret in it")
	_, err = LoadCredential(CredentialFile(dir, "nothing"))
	assert.ErrorContains(t, err, "no such file")
}
