package access

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// office is a small OpenID Connect provider: it lets in whoever is asked for, as told.
type office struct {
	*httptest.Server
	t     *testing.T
	clock *hands
	key   *ecdsa.PrivateKey
	other *ecdsa.PrivateKey // not among those it publishes

	claims map[string]any // of the next ID token, besides the usual ones
	forge  bool           // sign with the other key

	nonce, challenge string // of whoever came last
}

func newOffice(t *testing.T, clock *hands) *office {
	o := &office{t: t, clock: clock}
	var err error
	o.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	o.other, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	mux := http.NewServeMux()
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		o.json(w, map[string]any{
			"issuer":                                o.URL,
			"authorization_endpoint":                o.URL + "/authorize",
			"token_endpoint":                        o.URL + "/token",
			"jwks_uri":                              o.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"ES256"},
		})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		o.json(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{
			Key:       &o.key.PublicKey,
			KeyID:     "1",
			Algorithm: "ES256",
			Use:       "sig",
		}}})
	})
	mux.HandleFunc("/token", o.token)
	o.Server = httptest.NewServer(mux)
	t.Cleanup(o.Close)
	return o
}

func (o *office) json(w http.ResponseWriter, what any) {
	w.Header().Set("Content-Type", "application/json")
	assert.NoError(o.t, json.NewEncoder(w).Encode(what))
}

// visit returns a browser that is sent to the provider: the state it brings back.
func (o *office) visit(address string) (state string) {
	u, err := url.Parse(address)
	require.NoError(o.t, err)
	q := u.Query()
	assert.Equal(o.t, []string{"code", "nexocumula", "S256", "https://central.example:8460" + CallbackPath}, []string{
		q.Get("response_type"), q.Get("client_id"), q.Get("code_challenge_method"), q.Get("redirect_uri"),
	})
	o.nonce, o.challenge = q.Get("nonce"), q.Get("code_challenge")
	return q.Get("state")
}

func (o *office) token(w http.ResponseWriter, r *http.Request) {
	sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	name, secret, _ := r.BasicAuth()
	if r.FormValue("code") != "good" || base64.RawURLEncoding.EncodeToString(sum[:]) != o.challenge ||
		name != "nexocumula" || secret != "shared" {
		http.Error(w, `{"error":"invalid_grant"}`, http.StatusBadRequest)
		return
	}
	key := o.key
	if o.forge {
		key = o.other
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: "1"}},
		nil)
	require.NoError(o.t, err)
	claims := map[string]any{
		"iss":                o.URL,
		"aud":                "nexocumula",
		"sub":                "7",
		"exp":                o.clock.now().Add(time.Minute).Unix(),
		"iat":                o.clock.now().Unix(),
		"nonce":              o.nonce,
		"preferred_username": "Ranger",
	}
	for k, v := range o.claims {
		claims[k] = v
	}
	text, err := jwt.Signed(signer).Claims(claims).Serialize()
	require.NoError(o.t, err)
	o.json(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": text})
}

func TestPeopleOfAnOfficeLogInAtItsProvider(t *testing.T) {
	b, clock := fresh(t)
	o := newOffice(t, clock)
	scope, err := ParseScope([]string{"stony-beck/#"})
	require.NoError(t, err)
	p := &Provider{
		Name: "head office", Issuer: o.URL, Client: "nexocumula", Secret: "shared", Address: "https://central.example:8460", Claim: "groups", HTTP: o.Client(),
		Rules: []GroupRule{{"wardens", Rights{Role: Administrator}}, {"fish", Rights{Viewer, scope}}},
	}
	login := func(code string) (Session, error) {
		address, state, err := b.GoToProvider(t.Context(), p)
		require.NoError(t, err)
		assert.Equal(t, state, o.visit(address))
		return b.BackFromProvider(t.Context(), p, state, code, Attempt{From: "10.0.0.2", By: "console"})
	}
	o.claims = map[string]any{"groups": []string{"boats", "fish"}}
	s, err := login("good")
	require.NoError(t, err)
	who, err := b.Who(s.Bearer, "10.0.0.2")
	require.NoError(t, err)
	assert.Equal(t, []any{"ranger", Viewer, []string{"stony-beck/#"}}, []any{who.Name, who.Role, who.Scope.List()})

	o.claims["groups"] = []string{"wardens", "fish"}
	_, err = login("good")
	require.NoError(t, err)
	who, err = b.Who(s.Bearer, "10.0.0.2")
	require.NoError(t, err)
	assert.Equal(t, Administrator, who.Role, "what his groups say now, also for the session before")

	for name, test := range map[string]struct {
		claims map[string]any
		forge  bool
		code   string
		says   string
	}{
		"no group":                {map[string]any{"groups": []string{"boats"}}, false, "good", "none of your groups"},
		"no claim":                {map[string]any{}, false, "good", "none of your groups"},
		"a code of somebody else": {map[string]any{"groups": "fish"}, false, "bad", "does not know the code"},
		"signed by another":       {map[string]any{"groups": "fish"}, true, "good", "cannot be trusted"},
		"for another service": {
			map[string]any{"groups": "fish", "aud": "feed-robot"}, false, "good", "cannot be trusted",
		},
		"by another provider": {
			map[string]any{"groups": "fish", "iss": "https://elsewhere.example"}, false, "good", "cannot be trusted",
		},
		"too old": {
			map[string]any{"groups": "fish", "exp": clock.now().Add(-time.Minute).Unix()}, false, "good",
			"cannot be trusted",
		},
		"of another login": {
			map[string]any{"groups": "fish", "nonce": "replayed"}, false, "good", "meant for another login",
		},
		"somebody else's name": {
			map[string]any{"groups": "fish", "sub": "8"}, false, "good", "another account \"ranger\" here",
		},
		"nobody in particular": {map[string]any{"groups": "fish", "sub": " "}, false, "good", "sub is empty"},
		"made for another party": {
			map[string]any{"groups": "fish", "azp": "feed-robot"}, false, "good", "meant for another program (azp)",
		},
		"for several, of nobody": {
			map[string]any{"groups": "fish", "aud": []string{"nexocumula", "feed-robot"}}, false, "good",
			"meant for another program (azp)",
		},
		"a name none can have": {
			map[string]any{"groups": "fish", "sub": "9", "preferred_username": "../x y"}, false, "good", "is no name",
		},
	} {
		o.claims, o.forge = test.claims, test.forge
		_, err := login(test.code)
		assert.ErrorContains(t, err, test.says, name)
	}
	o.claims, o.forge = map[string]any{"groups": "fish"}, false
	address, state, err := b.GoToProvider(t.Context(), p)
	require.NoError(t, err)
	o.visit(address)
	clock.move(waitingFor + time.Second)
	_, err = b.BackFromProvider(t.Context(), p, state, "good", Attempt{From: "10.0.0.2", By: "console"})
	assert.ErrorContains(t, err, "took too long")
	_, err = b.BackFromProvider(t.Context(), p, "made up", "good", Attempt{From: "10.0.0.2", By: "console"})
	assert.ErrorContains(t, err, "begun elsewhere")

	locked := true
	require.NoError(t, b.ChangeAccount(person, "ranger", Change{Locked: &locked}))
	_, err = login("good")
	assert.ErrorContains(t, err, "is locked here")
	refused, err := b.Audit(Asked{Outcome: Refused, Most: 100})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(refused), 10)
}
