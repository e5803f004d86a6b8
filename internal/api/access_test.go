package api_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/access"
	apiserver "nexocumula/internal/api"
	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
	"nexocumula/internal/store/engine"
)

const password = "four words of trout"

// secrets are planted, or begin what lets somebody in. None may be in a log, or in an answer
// that is not about making it.
var secrets = []string{password, pushToken, "nxs_", "nxt_", "nxg_", "$argon2id"}

// guarded runs a service, as configured and with a login, that holds series of two sites, and
// is its first administrator.
func guarded(t *testing.T, text string) (*service.Service, *client.Client) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("trout"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "token"), []byte(pushToken), 0o600))
	settings, err := config.Parse("guarded.yaml",
		[]byte(strings.ReplaceAll(text, "DIR", dir)+"access: { login: required }\n"), kinds.All)
	require.NoError(t, err)
	said := &bytes.Buffer{}
	s, err := service.Open(settings, "test",
		slog.New(slog.NewJSONHandler(said, &slog.HandlerOptions{Level: slog.LevelDebug})))
	require.NoError(t, err)
	write(t, s.Store)
	ids, err := s.Store.Define(t.Context(), []series.Definition{{
		Path:     "long-mere/buoy-1/oxygen",
		Kind:     series.Gauge,
		Unit:     "mg/l",
		FreshFor: time.Minute,
	}})
	require.NoError(t, err)
	rows := column.New(1, 1)
	rows.Add(begin.UnixNano(), 777.5)
	require.NoError(t,
		s.Store.Append(t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: ids[0], Tier: series.Readings, Rows: rows}}}))
	code, err := s.FirstCode()
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	stopped := make(chan error, 1)
	go func() { stopped <- s.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		assert.NoError(t, <-stopped)
		for _, secret := range append([]string{code}, secrets...) {
			assert.NotContains(t, said.String(), secret, "in the log")
		}
	})
	return s, loggedIn(t, s, code, "warden")
}

// loggedIn uses a code and logs in.
func loggedIn(t *testing.T, s *service.Service, code, name string) *client.Client {
	t.Helper()
	c := client.New(s.Address)
	_, err := c.Redeem(t.Context(), client.Redeem{Code: code, Account: name, Password: password})
	require.NoError(t, err)
	begun, err := c.Login(t.Context(), client.Login{Account: name, Password: password, By: "command line"})
	require.NoError(t, err)
	return c.With(begun.Secret)
}

func bearerOf(t *testing.T, s *service.Service, admin *client.Client, name, role string, sees ...string) string {
	t.Helper()
	made, err := admin.AddAccount(t.Context(), client.NewAccount{
		Name: name,
		Role: role,
		Sees: append([]string{}, sees...),
	})
	require.NoError(t, err)
	c := client.New(s.Address)
	_, err = c.Redeem(t.Context(), client.Redeem{Code: made.Code, Password: password})
	require.NoError(t, err)
	begun, err := c.Login(t.Context(), client.Login{Account: name, Password: password, By: "command line"})
	require.NoError(t, err)
	return begun.Secret
}

// samples is a request of every call, which does no harm. What changes something names what
// is not there, or brings a body that is none.
var samples = map[string]string{
	"GET /api/v1/health": "", "GET /api/v1/series": "", "GET /api/v1/now": "", "GET /api/v1/stream": "",
	"GET /api/v1/windows": "?select=%23&from=2026-03-01T08:00:00Z&to=2026-03-01T09:00:00Z&explain=true", "GET /api/v1/readings": "?select=%23&from=2026-03-01T08:00:00Z&to=2026-03-01T09:00:00Z",
	"POST /api/v1/readings": "x", "POST /api/v1/sources/{source}/read": "", "GET /api/v1/moment": "?select=%23&at=2026-03-01T08:30:00Z", "GET /api/v1/gaps": "", "POST /api/v1/removals": "{", "POST /api/v1/series/rename": "{", "GET /api/v1/excursions": "?from=2026-03-01T07:00:00Z&to=2026-03-01T10:00:00Z",
	"GET /api/v1/rejects": "", "GET /api/v1/rejects/counts": "", "GET /api/v1/rejects/{id}": "", "POST /api/v1/rejects/replay": "{", "POST /api/v1/sources/{source}/try": "{",
	"POST /api/v1/reload": "", "POST /api/v1/field/probe": "{", "POST /api/v1/field/scan": "{", "GET /api/v1/field/watch": "?source=nothing", "POST /api/v1/field/lines": "{",
	"POST /api/v1/field/check": "{", "GET /api/v1/field/plan": "", "GET /api/v1/discovered": "", "POST /api/v1/configuration/append": "{",
	"GET /api/v1/series/versions": "?path=stony-beck/raceway-1/oxygen", "GET /api/v1/uplinks": "", "GET /api/v1/links": "", "GET /api/v1/units": "", "GET /api/v1/boards": "", "POST /api/v1/boards": "{", "GET /api/v1/boards/standard": "?about=stony-beck", "GET /api/v1/boards/{board}": "", "PUT /api/v1/boards/{board}": "{", "DELETE /api/v1/boards/{board}": "", "GET /api/v1/boards/{board}/history": "", "GET /api/board.schema.json": "", "GET /api/v1/manual": "", "GET /api/v1/manual/{page}": "",
	"GET /api/v1/notes": "", "POST /api/v1/notes": "{", "DELETE /api/v1/notes/{note}": "", "POST /api/v1/replication": "x", "POST /api/v1/replication/credential": "{", "GET /api/openapi.yaml": "", "GET /metrics": "",
	"GET /api/v1/session": "", "POST /api/v1/session": "{", "DELETE /api/v1/session": "", "POST /api/v1/session/redeem": "{", "POST /api/v1/session/passkey": "", "POST /api/v1/session/passkey/finish": "{",
	"GET /api/v1/session/provider": "", "GET /api/v1/session/provider/back": "",
	"GET /api/v1/account": "", "POST /api/v1/account/password": "{", "POST /api/v1/account/authenticator": "{", "POST /api/v1/account/authenticator/finish": "{", "POST /api/v1/account/authenticator/remove": "{",
	"POST /api/v1/account/passkeys": "{", "POST /api/v1/account/passkeys/finish": "{", "POST /api/v1/account/passkeys/remove": "{", "DELETE /api/v1/account/sessions/{session}": "", "POST /api/v1/account/code": "",
	"GET /api/v1/accounts": "", "POST /api/v1/accounts": "{", "PATCH /api/v1/accounts/{account}": "{", "DELETE /api/v1/accounts/{account}": "", "POST /api/v1/accounts/{account}/code": "", "DELETE /api/v1/accounts/{account}/sessions": "",
	"GET /api/v1/tokens": "", "POST /api/v1/tokens": "{", "DELETE /api/v1/tokens/{token}": "", "GET /api/v1/gateways": "", "POST /api/v1/gateways": "{", "DELETE /api/v1/gateways/{gateway}": "", "POST /api/v1/join": "{",
	"GET /api/v1/requests": "", "POST /api/v1/requests": "{", "GET /api/v1/requests/{request}": "", "DELETE /api/v1/requests/{request}": "", "POST /api/v1/replication/wait": "{", "POST /api/v1/replication/compare": "x", "POST /api/v1/uplinks/{uplink}/reconcile": "{",
	"GET /api/v1/audit": "", "GET /api/v1/audit/verify": "",
}

// ask makes the sample of a call.
func ask(t *testing.T, base, call, bearer string) (status int, text string) {
	t.Helper()
	method, path, _ := strings.Cut(call, " ")
	var body io.Reader
	sample := samples[call]
	path = strings.NewReplacer("{source}", "nothing", "{id}", "999", "{session}", "nothing", "{account}", "nothing",
		"{token}", "nothing", "{note}", "999", "{board}", "999", "{gateway}", "nothing", "{request}", "nothing", "{uplink}", "nothing").Replace(path)
	if strings.HasPrefix(sample, "?") {
		path += sample
	} else {
		body = bytes.NewReader([]byte(sample))
	}
	return askFor(t, base, method, path, bearer, body)
}

func askFor(t *testing.T, base, method, path, bearer string, body io.Reader) (status int, text string) {
	t.Helper()
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	req, err := http.NewRequestWithContext(ctx, method, base+path, body)
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	if bearer != "" {
		req.Header.Set("Authorization", "Bearer "+bearer)
	}
	resp, err := http.DefaultTransport.RoundTrip(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	if strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") {
		first := make([]byte, 1<<16)
		n, _ := resp.Body.Read(first)
		return resp.StatusCode, string(first[:n])
	}
	all, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(all)
}

// Every call, by every role, by those who see everything, one site, or nothing that is here.
func TestEveryCallIsForThoseItIsFor(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	calls := apiserver.Calls()
	for call := range calls {
		require.Contains(t, samples, call, "say how to make this call, so that it is walked too")
	}
	type caller struct {
		role access.Role
		sees string
	}
	bearers := map[caller]string{}
	for _, role := range []access.Role{access.Viewer, access.Operator, access.Engineer, access.Administrator} {
		for i, sees := range []string{"#", "stony-beck/#", "elsewhere/+/oxygen"} {
			bearers[caller{role, sees}] = bearerOf(t, s, admin, fmt.Sprintf("%s-%d", role, i), string(role), sees)
		}
	}
	sender, err := admin.AddToken(t.Context(), client.NewToken{Name: "robot", Role: "sender", Sees: []string{}})
	require.NoError(t, err)
	reader, err := admin.AddToken(t.Context(), client.NewToken{Name: "report", Role: "administrator", Sees: []string{}})
	require.NoError(t, err)
	mine := []access.Role{access.Anyone, access.Sender, access.Gateway}
	refusals := []string{`"code":"login"`, `"code":"role"`, `"code":"limited"`, `"code":"account"`}
	refusedFor := func(text string) (code string) {
		for _, one := range refusals {
			if strings.Contains(text, one) {
				return one
			}
		}
		return ""
	}
	for call, needs := range calls {
		if call == "DELETE /api/v1/session" {
			continue // it ends what this test goes on with; see below
		}
		status, text := ask(t, s.Address, call, "")
		if slices.Contains(mine, needs.Role) {
			assert.Empty(t, refusedFor(text), "%s by nobody", call)
		} else if call == "GET /api/v1/health" {
			assert.Equal(t, 200, status)
			assert.JSONEq(t, `{"status":"ready"}`, text, "a probe learns no more")
		} else {
			assert.Equal(t, 401, status, "%s by nobody: %s", call, text)
			assert.Contains(t, text, `"code":"login"`, call)
		}
		for who, bearer := range bearers {
			status, text := ask(t, s.Address, call, bearer)
			expected := ""
			switch {
			case slices.Contains(mine, needs.Role):
			case !who.role.Allows(needs.Role):
				expected = `"code":"role"`
			case needs.OfAll && who.sees != "#":
				expected = `"code":"limited"`
			}
			assert.Equal(t, expected, refusedFor(text), "%s by %v: %d %s", call, who, status, text)
			if expected != "" {
				assert.Equal(t, 403, status, "%s by %v", call, who)
			}
			assert.NotEqual(t, 500, status, "%s by %v: %s", call, who, text)
			for _, secret := range secrets {
				if call == "GET /api/openapi.yaml" {
					text = strings.ReplaceAll(text, "_MADEUPFORTHISPAGE", "") // its examples
					text = regexp.MustCompile(`nx[stg]0+`).ReplaceAllString(text, "")
				}
				assert.NotContains(t, text, secret, "%s by %v", call, who)
			}
			if strings.HasPrefix(call, "GET /api/v1/manual") || call == "GET /api/openapi.yaml" || call == "GET /api/board.schema.json" {
				continue // has examples
			}
			if who.sees != "#" {
				assert.NotContains(t, text, "long-mere", "%s by %v", call, who)
				assert.NotContains(t, text, "777.5", "%s by %v", call, who)
			}
			if who.sees == "elsewhere/+/oxygen" && !strings.Contains(samples[call], "raceway") {
				assert.NotContains(t, text, "raceway", "%s by %v", call, who)
			}
		}
		if needs.Role != access.Anyone && needs.Role != access.Gateway && needs.Role != access.Sender {
			_, text = ask(t, s.Address, call, sender.Secret)
			assert.Equal(t, `"code":"role"`, refusedFor(text), "%s by a sender: %s", call, text)
			_, text = ask(t, s.Address, call, reader.Secret)
			assert.Equal(t, needs.Own, refusedFor(text) == `"code":"account"`, "%s by a token: %s", call, text)
		}
	}
	for _, bearer := range bearers {
		status, _ := ask(t, s.Address, "DELETE /api/v1/session", bearer)
		assert.Equal(t, 200, status)
		status, text := ask(t, s.Address, "GET /api/v1/now", bearer)
		assert.Equal(t, 401, status)
		assert.Contains(t, text, "the session is over")
	}
}

func TestRefusedAttemptsAreNoted(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	viewer := bearerOf(t, s, admin, "ranger", "viewer")
	part := bearerOf(t, s, admin, "gill", "engineer", "stony-beck/#")
	robot, err := admin.AddToken(t.Context(), client.NewToken{Name: "robot", Role: "sender", Sees: []string{}})
	require.NoError(t, err)
	for _, one := range []struct{ call, bearer string }{
		{"POST /api/v1/reload", ""}, {"POST /api/v1/reload", viewer}, {"POST /api/v1/reload", part}, {"GET /api/v1/now", robot.Secret}, {"GET /api/v1/account", robot.Secret},
		{"GET /api/v1/now", "nxt_guess"}, {"POST /api/v1/replication", "nxg_guess"}, {"POST /api/v1/readings", "guess"}, {"GET /api/v1/now", ""},
	} {
		status, text := ask(t, s.Address, one.call, one.bearer)
		assert.Contains(t, []int{401, 403}, status, text)
	}
	refused, err := admin.Audit(t.Context(), client.AuditQuery{Outcome: "refused"})
	require.NoError(t, err)
	var noted []string
	for _, e := range slices.Backward(refused.Entries) {
		noted = append(noted, e.Who+": "+e.Action)
		assert.Equal(t, "127.0.0.1", e.From)
		assert.NotEmpty(t, e.Reason)
	}
	assert.Equal(t, []string{
		"nobody: reload", "ranger: reload", "gill: reload", "robot: now", "robot: account", "nobody: now", "nobody: replication", "nobody: readings",
	}, noted, "but not that somebody looked who has not logged in yet")
}

// Whatever is asked in whatever way, what somebody may not see is not there.
func TestWhatSomebodyMayNotSeeIsNowhere(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	bearer := bearerOf(t, s, admin, "ranger", "viewer", "stony-beck/+/oxygen")
	window := "&from=2026-03-01T08:00:00Z&to=2026-03-01T09:00:00Z&width=1h"
	for query, wanted := range map[string]string{
		"series":                             `"path":"stony-beck/raceway-1/oxygen"`,
		"now":                                `"value":59`,
		"now?select=long-mere/%23":           "near it are stony-beck/raceway-1/oxygen",
		"now?select=lang-mere/buoy-1/oxygen": "near it are stony-beck/raceway-1/oxygen",
		"windows?select=%23&stats=count" + window:                                          `"count":[60]`,
		"windows?select=%2B/%2B/oxygen" + window + "&across=sum&stats=count":               `"count":[60]`,
		"windows?select=%2B/%2B/oxygen" + window + "&highest=2&rank=max&stats=max":         `"max":[59]`,
		"windows?select=long-mere/buoy-1/oxygen" + window:                                  "no series matches",
		"windows?input=a=%2B/%2B/oxygen&calc=b=a" + window:                                 `"value":[29.5]`,
		"windows?input=a=long-mere/buoy-1/oxygen&calc=b=a" + window:                        "no series matches",
		"readings?select=%23&from=2026-03-01T08:00:00Z&to=2026-03-01T08:05:00Z&format=csv": "stony-beck/raceway-1/oxygen,2026-03-01T08:04:00Z,4,mg/l",
		"moment?select=%23&at=2026-03-01T08:00:30Z":                                        `"value":0`,
		"moment?select=long-mere/buoy-1/oxygen&at=2026-03-01T08:00:30Z":                    "no series matches",
		"series/versions?path=long-mere/buoy-1/oxygen":                                     "no series matches",
		"health":  `"limited":true,"series":1`,
		"uplinks": `{"sending":[],"receiving":[]}`,
		"stream":  "stony-beck/raceway-1/oxygen",
		"session": `"sees":["stony-beck/+/oxygen"],"whole":false`,
	} {
		_, text := askFor(t, s.Address, http.MethodGet, "/api/v1/"+query, bearer, nil)
		assert.Contains(t, text, wanted, query)
		if !strings.Contains(query, "long-mere") {
			assert.NotContains(t, text, "long-mere", query)
		}
		assert.NotContains(t, text, "buoy-1/oxygen,", query)
		assert.NotContains(t, text, "777.5", query)
	}
	all, err := admin.Series(t.Context(), "")
	require.NoError(t, err)
	assert.Len(t, all.Series, 2, "both are there for whoever may see them")
}

// A note is for those who see all that it is about, to read and to write.
func TestNotesAreForThoseWhoSeeTheirPlace(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	c := client.New(s.Address)
	operator := c.With(bearerOf(t, s, admin, "ranger", "operator", "stony-beck/#"))
	oxygen := c.With(bearerOf(t, s, admin, "gill", "viewer", "+/+/oxygen"))
	for _, about := range []string{"stony-beck", "stony-beck/raceway-1", "stony-beck/raceway-1/oxygen"} {
		made, err := operator.AddNote(t.Context(), client.NewNote{About: about, Text: " probe cleaned "})
		require.NoError(t, err)
		assert.Equal(t, []string{"ranger", "probe cleaned"}, []string{made.Author, made.Text})
	}
	other, err := admin.AddNote(t.Context(), client.NewNote{
		About: "long-mere/buoy-1",
		Text:  "moored anew",
		At:    ptr(begin),
	})
	require.NoError(t, err)
	about := func(c *client.Client, selector, last string) (out []string) {
		found, err := c.Notes(t.Context(), selector, last)
		require.NoError(t, err)
		for _, n := range found.Notes {
			out = append(out, n.About)
		}
		return out
	}
	assert.Equal(t, []string{
		"stony-beck/raceway-1/oxygen", "stony-beck/raceway-1", "stony-beck", "long-mere/buoy-1",
	}, about(admin, "", ""))
	assert.Equal(t, []string{"stony-beck/raceway-1/oxygen", "stony-beck/raceway-1", "stony-beck"},
		about(operator, "", "1h"))
	assert.Equal(t, []string{"stony-beck/raceway-1/oxygen"}, about(oxygen, "", ""))
	assert.Equal(t, []string{"long-mere/buoy-1"}, about(admin, "long-mere/#", ""))
	for what, try := range map[string]func() error{
		"is not all yours to see": func() error {
			_, err := operator.AddNote(t.Context(), client.NewNote{About: "long-mere/buoy-1", Text: "x"})
			return err
		},
		"for the role operator": func() error {
			_, err := oxygen.AddNote(t.Context(), client.NewNote{About: "stony-beck/raceway-1/oxygen", Text: "x"})
			return err
		},
		"there is no note": func() error { return operator.RemoveNote(t.Context(), other.ID) },
		"write 1 to 2000": func() error {
			_, err := admin.AddNote(t.Context(), client.NewNote{About: "long-mere", Text: " "})
			return err
		},
		"name a site, a station or a": func() error {
			_, err := admin.AddNote(t.Context(), client.NewNote{About: "long-mere/+", Text: "x"})
			return err
		},
	} {
		assert.ErrorContains(t, try(), what)
	}
	require.NoError(t, admin.RemoveNote(t.Context(), other.ID))
	kept, err := admin.Audit(t.Context(), client.AuditQuery{Who: "warden", Action: "notes.remove"})
	require.NoError(t, err)
	assert.Contains(t, kept.Entries[0].Target, "moored anew", "the audit keeps what is taken away")
}

func TestAStreamEndsWithItsSession(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	for name, end := range map[string]func() error{
		"logged out": func() error { return admin.LogoutAccount(t.Context(), "logged-out") },
		"locked": func() error {
			_, err := admin.ChangeAccount(t.Context(), "locked", client.AccountChange{Locked: ptr(true)})
			return err
		},
		"removed": func() error { return admin.RemoveAccount(t.Context(), "removed") },
		"sees another": func() error {
			_, err := admin.ChangeAccount(t.Context(), "sees-another", client.AccountChange{Sees: &[]string{"x/#"}})
			return err
		},
	} {
		bearer := bearerOf(t, s, admin, strings.ReplaceAll(name, " ", "-"), "viewer")
		events := 0
		err := client.New(s.Address).With(bearer).Stream(t.Context(), "", func(client.Now) error {
			if events++; events == 1 {
				return end()
			}
			return nil
		})
		assert.NoError(t, err, "%s: the service ends the stream", name)
		assert.Equal(t, 1, events, name)
	}
}

func ptr[T any](v T) *T { return &v }

// A token of the role sender sends for the sender of its name, and only what both may.
func TestATokenOfASenderSends(t *testing.T) {
	s, admin := guarded(t,
		strings.Replace(bothConfig, `{ name: mast, secret_file: DIR/token, series: "+/mast/+" }`,
			`{ name: mast, series: "+/mast/+" }`, 1))
	made, err := admin.AddToken(t.Context(), client.NewToken{
		Name: "mast",
		Role: "sender",
		Sees: []string{"stony-beck/mast/wind"},
	})
	require.NoError(t, err)
	other, err := admin.AddToken(t.Context(), client.NewToken{Name: "other", Role: "sender", Sees: []string{}})
	require.NoError(t, err)
	push := func(token, series string) (int, string) {
		t.Helper()
		req, err := http.NewRequest(http.MethodPost, s.Address+"/api/v1/readings",
			strings.NewReader("series,time,value\n"+series+",,4\n"))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "text/csv")
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(text)
	}
	status, text := push(made.Secret, "mast/wind")
	assert.Equal(t, 200, status, text)
	status, text = push(made.Secret, "mast/gate")
	assert.Equal(t, 422, status, text)
	assert.Contains(t, text, "may not send")
	status, text = push(other.Secret, "mast/wind")
	assert.Equal(t, 401, status, text)
	require.NoError(t, admin.RevokeToken(t.Context(), "mast"))
	status, _ = push(made.Secret, "mast/wind")
	assert.Equal(t, 401, status)
}

// A page of another site can lead a browser here, but not have it do anything.
func TestPagesOfOtherSitesMayNotAsk(t *testing.T) {
	s := serve(t)
	for _, test := range []struct {
		method, name, value string
		status              int
	}{
		{"POST", "Sec-Fetch-Site", "cross-site", 403}, {"POST", "Sec-Fetch-Site", "same-site", 403}, {"POST", "Origin", "https://elsewhere.example", 403},
		{"GET", "Host", "elsewhere.example", 421}, {"GET", "Host", "127.0.0.1.elsewhere.example:80", 421}, {"GET", "Host", "localhost", 200},
	} {
		path := "/api/v1/now"
		if test.method == "POST" {
			path = "/api/v1/reload"
		}
		req, err := http.NewRequest(test.method, s.Address+path, nil)
		require.NoError(t, err)
		req.Header.Set(test.name, test.value)
		if test.name == "Host" {
			req.Host = test.value
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, test.status, resp.StatusCode, "%s: %s", test.name, test.value)
	}
}
