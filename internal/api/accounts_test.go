package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// as makes calls with a bearer, and holds them to the description.
func (c contract) as(bearer, method, path, body string) (int, string) {
	c.t.Helper()
	header := http.Header{"Authorization": {"Bearer " + bearer}}
	if bearer == "" {
		header = http.Header{}
	}
	if body != "" {
		header.Set("Content-Type", "application/json")
	}
	return c.call(method, "/api/v1/"+path, []byte(body), header)
}

func field(t *testing.T, text, name string) string {
	t.Helper()
	var all map[string]any
	require.NoError(t, json.Unmarshal([]byte(text), &all), text)
	value, _ := all[name].(string)
	require.NotEmpty(t, value, "%s in %s", name, text)
	return value
}

// Whatever is done to accounts, tokens and gateways answers as it is described.
func TestCallsAboutAccessAnswerAsDescribed(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	c := newContract(t, s.Address)
	_, err := admin.Session(t.Context())
	require.NoError(t, err)
	_, text := c.as("", "POST", "session", `{"account":"warden","password":"`+password+`","by":"command line"}`)
	warden := field(t, text, "secret")
	expect := func(status int, says, bearer, method, path, body string) string {
		t.Helper()
		got, text := c.as(bearer, method, path, body)
		assert.Equal(t, status, got, "%s %s: %s", method, path, text)
		assert.Contains(t, text, says, "%s %s", method, path)
		return text
	}
	// Who one is, before and after.
	expect(200, `"kind":"anyone","role":"anyone"`, "", "GET", "session", "")
	expect(200, `"name":"warden","kind":"account","role":"administrator","sees":[],"whole":true`, warden, "GET",
		"session", "")
	expect(401, "is wrong", "", "POST", "session", `{"account":"warden","password":"something else"}`)
	expect(400, "console or command line", "", "POST", "session", `{"account":"warden","password":"x","by":"bird"}`)
	expect(415, "use application/json", "", "POST", "session", "")

	// Accounts.
	made := expect(201, `"account":"ranger"`, warden, "POST", "accounts",
		`{"name":"ranger","role":"operator","sees":["stony-beck/#"]}`)
	expect(409, "there is an account", warden, "POST", "accounts", `{"name":"ranger","role":"viewer"}`)
	expect(400, "is no name", warden, "POST", "accounts", `{"name":"The Ranger","role":"viewer"}`)
	expect(400, "is no name", warden, "POST", "accounts", `{"name":"..","role":"viewer"}`)
	expect(400, "is no role; use viewer, operator, engineer, administrator", warden, "POST", "accounts",
		`{"name":"x","role":"sender"}`)
	expect(400, "# may only be the last level", warden, "POST", "accounts",
		`{"name":"x","role":"viewer","sees":["#/a"]}`)
	expect(400, "unknown field", warden, "POST", "accounts", `{"name":"x","rolle":"viewer"}`)
	expect(403, "not known here", "", "POST", "session/redeem", `{"code":"aaaaa-aaaaa","password":"`+password+`"}`)
	expect(400, "take 12 or more", "", "POST", "session/redeem",
		`{"code":"`+field(t, made, "code")+`","password":"short"}`)
	expect(200, `"account":"ranger"`, "", "POST", "session/redeem",
		`{"code":"`+field(t, made, "code")+`","password":"`+password+`"}`)
	ranger := field(t,
		expect(200, "", "", "POST", "session", `{"account":"ranger","password":"`+password+`","by":"command line"}`),
		"secret")
	expect(200, `"name":"ranger","role":"operator","sees":["stony-beck/#"],"password":true,"authenticator":false`,
		warden, "GET", "accounts", "")
	expect(200, `"role":"viewer"`, warden, "PATCH", "accounts/ranger", `{"role":"viewer"}`)
	expect(200, `"role":"viewer","sees":["stony-beck/#"]`, ranger, "GET", "session", "")
	expect(404, "there is no account", warden, "PATCH", "accounts/nobody", `{"locked":true}`)
	expect(409, "the last administrator", warden, "PATCH", "accounts/warden", `{"locked":true}`)
	expect(409, "the last administrator", warden, "DELETE", "accounts/warden", "")
	expect(404, "there is no account", warden, "DELETE", "accounts/nobody", "")
	expect(404, "there is no account", warden, "POST", "accounts/nobody/code", "")

	// One's own.
	own := expect(200, `"present":true`, ranger, "GET", "account", "")
	assert.Contains(t, own, `"passkeys":[]`)
	expect(400, "the present password is another", ranger, "POST", "account/password",
		`{"present":"something else","password":"another four words"}`)
	expect(200, "{}", ranger, "POST", "account/password", `{"present":"`+password+`","password":"another four words"}`)
	key := expect(200, "data:image/png", ranger, "POST", "account/authenticator", `{"password":"another four words"}`)
	secret := field(t, key, "secret")
	expect(403, "is its clock right?", ranger, "POST", "account/authenticator/finish",
		`{"password":"another four words","secret":"`+secret+`","code":"000000"}`)
	now, err := totp.GenerateCode(secret, time.Now())
	require.NoError(t, err)
	expect(200, "{}", ranger, "POST", "account/authenticator/finish",
		`{"password":"another four words","secret":"`+secret+`","code":"`+now+`"}`)
	expect(401, `"code":"second_factor"`, "", "POST", "session", `{"account":"ranger","password":"another four words"}`)
	expect(200, "{}", ranger, "POST", "account/authenticator/remove", `{"password":"another four words"}`)
	expect(400, "reached by a name", ranger, "POST", "account/passkeys", `{"password":"another four words"}`)
	expect(400, "reached by a name", "", "POST", "session/passkey", "")
	expect(400, "reached by a name", "", "POST", "session/passkey/finish", `{"ceremony":"x","passkey":{}}`)
	expect(400, "reached by a name", ranger, "POST", "account/passkeys/finish", `{"ceremony":"x","passkey":{}}`)
	expect(404, "has no such passkey", ranger, "POST", "account/passkeys/remove",
		`{"password":"another four words","id":"x"}`)
	code := field(t, expect(200, "", ranger, "POST", "account/code", ""), "code")
	elsewhere := field(t,
		expect(200, `"account":"ranger"`, "", "POST", "session", `{"code":"`+code+`","by":"command line"}`), "secret")
	expect(404, "it may have ended", ranger, "DELETE", "account/sessions/nothing", "")
	expect(200, "{}", elsewhere, "DELETE", "session", "")
	expect(401, "the session is over", elsewhere, "GET", "account", "")
	expect(200, "{}", warden, "DELETE", "accounts/ranger/sessions", "")
	expect(401, "the session is over", ranger, "GET", "account", "")
	expect(200, `"account":"ranger"`, warden, "POST", "accounts/ranger/code", "")
	expect(200, "{}", warden, "DELETE", "accounts/ranger", "")

	// Tokens.
	token := field(t,
		expect(201, `"name":"report"`, warden, "POST", "tokens",
			`{"name":"report","role":"engineer","ends":"`+time.Now().Add(time.Hour).UTC().Format(time.RFC3339)+`"}`),
		"secret")
	expect(400, "is over already", warden, "POST", "tokens",
		`{"name":"past","role":"viewer","ends":"2026-01-01T00:00:00Z"}`)
	expect(409, "there is a token", warden, "POST", "tokens", `{"name":"report","role":"viewer"}`)
	expect(200, `"kind":"token","role":"engineer"`, token, "GET", "session", "")
	expect(403, "about one's own account", token, "GET", "account", "")
	expect(200, `"from":"127.0.0.1"`, warden, "GET", "tokens", "")
	expect(200, "{}", warden, "DELETE", "tokens/report", "")
	expect(404, "there is no token", warden, "DELETE", "tokens/report", "")
	expect(401, "it may have been revoked", token, "GET", "now", "")

	// Gateways.
	expect(400, "the name of a gateway is its site", warden, "POST", "gateways", `{"gateway":"alder weir"}`)
	enrolment := expect(201, `"gateway":"alder-weir"`, warden, "POST", "gateways", `{"gateway":"alder-weir"}`)
	expect(403, "not known here", "", "POST", "join", `{"gateway":"alder-weir","code":"aaaaa"}`)
	credential := field(t,
		expect(200, `"gateway":"alder-weir"`, "", "POST", "join",
			`{"gateway":"alder-weir","code":"`+field(t, enrolment, "code")+`"}`),
		"secret")
	next := field(t,
		expect(200, `"gateway":"alder-weir"`, credential, "POST", "replication/credential", `{"gateway":"alder-weir"}`),
		"secret")
	assert.NotEqual(t, credential, next)
	expect(401, "no credential of a gateway", "nxg_x", "POST", "replication/credential", `{"gateway":"alder-weir"}`)
	expect(200, `"gateway":"alder-weir","sites":["alder-weir"]`, warden, "GET", "gateways", "")
	expect(200, "{}", warden, "DELETE", "gateways/alder-weir", "")
	expect(404, "is enrolled", warden, "DELETE", "gateways/alder-weir", "")
	expect(404, "no provider", "", "GET", "session/provider", "")

	// All of it is in the audit, which can be asked in parts, and is whole.
	expect(200, `"action":"gateways.revoke"`, warden, "GET", "audit?action=gateways", "")
	expect(200, `"entries":[]`, warden, "GET", "audit?who=ranger&caller=10.0.0.1", "")
	expect(200, `"action":"account.password"`, warden, "GET",
		"audit?who=ranger&caller=127.0.0.1&outcome=done&from=2026-01-01T00:00:00Z&to=2999-01-01T00:00:00Z", "")
	expect(200, `"entries":[]`, warden, "GET", "audit?to=2026-01-01T00:00:00Z", "")
	expect(200, "id,time,who,kind,from,action", warden, "GET", "audit?format=csv&limit=3", "")
	expect(200, `"id":1,`, warden, "GET", "audit?cursor=2", "")
	expect(400, "is no time", warden, "GET", "audit?from=yesterday", "")
	expect(400, "limit", warden, "GET", "audit?limit=0", "")
	expect(406, "use json or csv", warden, "GET", "audit?format=arrow", "")
	expect(200, `"problems":[]`, warden, "GET", "audit/verify", "")
	_, all := c.as(warden, "GET", "audit?limit=1000", "")
	for _, planted := range []string{
		password, "another four words", secret, warden, ranger, token, credential, next, code,
	} {
		assert.False(t, strings.Contains(all, planted), "a secret is in the audit")
	}
}

// Requests without end from one place leave room for others.
func TestTooManyRequestsFromOnePlaceAreTurnedAway(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	turned := 0
	for range 5000 {
		if turned == 20 {
			break
		}
		status, _ := askFor(t, s.Address, http.MethodGet, "/api/v1/now", "nxt_AAAAAAAAAAAAAAAAAAAAAAAAAA", nil)
		if status == http.StatusTooManyRequests {
			turned++
		}
	}
	assert.Equal(t, 20, turned)
	_, err := admin.Now(t.Context(), "")
	assert.NoError(t, err, "who is logged in has room of his own")
	page, err := http.Get(s.Address + "/")
	require.NoError(t, err)
	page.Body.Close()
	assert.Equal(t, 200, page.StatusCode, "and the console's files come")
}
