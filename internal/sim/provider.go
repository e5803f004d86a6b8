package sim

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"nexocumula/internal/plain"
)

// Provider is a small OpenID Connect provider (Core 1.0, the authorization code flow with
// proof key). It asks for no password: whoever comes says who of the office he is.
type Provider struct {
	Issuer string

	client, secret string
	people         []Colleague
	key            *ecdsa.PrivateKey
	server         *http.Server
	served         chan error

	mu    sync.Mutex
	codes map[string]granted
}

// Colleague is one of those that the provider knows.
type Colleague struct {
	Name   string
	Groups []string
}

// Office lists the people of Fellwater Trout's head office.
var Office = []Colleague{
	{"warden", []string{"wardens"}}, {"ranger", []string{"stony-beck"}}, {"finch", []string{"boats"}},
}

type granted struct {
	who                        Colleague
	redirect, nonce, challenge string
	until                      time.Time
}

// StartProvider answers at an address, for one client.
func StartProvider(listen, client, secret string, people []Colleague) (*Provider, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("listening at %s: %w", listen, plain.Network(err))
	}
	p := &Provider{
		Issuer: "http://" + l.Addr().String(),
		client: client,
		secret: secret,
		people: people,
		key:    key,
		served: make(chan error, 1),
		codes:  map[string]granted{},
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.describe)
	mux.HandleFunc("GET /keys", p.keys)
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("GET /as/{name}", p.as)
	mux.HandleFunc("POST /token", p.token)
	p.server = &http.Server{Handler: mux, ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second}
	go func() { p.served <- p.server.Serve(l) }()
	return p, nil
}

// Close ends it.
func (p *Provider) Close() error {
	err := p.server.Close()
	<-p.served
	return err
}

func writeJSON(w http.ResponseWriter, what any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(what) // whoever does not read any more went away
}

func (p *Provider) describe(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, map[string]any{
		"issuer": p.Issuer, "authorization_endpoint": p.Issuer + "/authorize", "token_endpoint": p.Issuer + "/token", "jwks_uri": p.Issuer + "/keys",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"},
		"code_challenge_methods_supported": []string{"S256"},
	})
}

func (p *Provider) keys(w http.ResponseWriter, _ *http.Request) {
	writeJSON(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{
		Key:       &p.key.PublicKey,
		KeyID:     "1",
		Algorithm: "ES256",
		Use:       "sig",
	}}})
}

// authorize asks who it is.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("client_id") != p.client || r.FormValue("response_type") != "code" ||
		r.FormValue("code_challenge_method") != "S256" {
		http.Error(w, "this provider knows one client, and gives codes with a proof key", http.StatusBadRequest)
		return
	}
	var page strings.Builder
	page.WriteString("<!doctype html><meta charset=utf-8><title>Head office</title><h1>Who are you?</h1>")
	for _, c := range p.people {
		fmt.Fprintf(&page, `<p><a href="/as/%s?%s">%s</a> (%s)</p>`, url.PathEscape(c.Name),
			html.EscapeString(r.URL.RawQuery), html.EscapeString(c.Name),
			html.EscapeString(strings.Join(c.Groups, ", ")))
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write([]byte(page.String()))
}

// as sends somebody back with a code.
func (p *Provider) as(w http.ResponseWriter, r *http.Request) {
	back, err := url.Parse(r.FormValue("redirect_uri"))
	if err != nil || back.Host == "" {
		http.Error(w, "redirect_uri is no address", http.StatusBadRequest)
		return
	}
	for _, c := range p.people {
		if c.Name != r.PathValue("name") {
			continue
		}
		code := rand.Text()
		p.mu.Lock()
		p.codes[code] = granted{
			c, r.FormValue("redirect_uri"), r.FormValue("nonce"), r.FormValue("code_challenge"),
			time.Now().Add(time.Minute),
		}
		p.mu.Unlock()
		back.RawQuery = url.Values{"code": {code}, "state": {r.FormValue("state")}}.Encode()
		http.Redirect(w, r, back.String(), http.StatusSeeOther)
		return
	}
	http.NotFound(w, r)
}

// token gives who it was for a code, once.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	g, known := p.codes[r.FormValue("code")]
	delete(p.codes, r.FormValue("code"))
	p.mu.Unlock()
	proof := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	client, secret, _ := r.BasicAuth()
	client, _ = url.QueryUnescape(client) // both are form-encoded first (RFC 6749, 2.3.1)
	secret, _ = url.QueryUnescape(secret)
	if !known || time.Now().After(g.until) || client != p.client || secret != p.secret ||
		r.FormValue("redirect_uri") != g.redirect || base64.RawURLEncoding.EncodeToString(proof[:]) != g.challenge {
		w.WriteHeader(http.StatusBadRequest)
		writeJSON(w, map[string]string{"error": "invalid_grant"})
		return
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.key, KeyID: "1"}},
		nil)
	var text string
	if err == nil {
		text, err = jwt.Signed(signer).Claims(map[string]any{
			"iss": p.Issuer, "aud": p.client, "sub": "sub-" + g.who.Name, "iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix(),
			"nonce": g.nonce, "preferred_username": g.who.Name, "groups": g.who.Groups,
		}).Serialize()
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	writeJSON(w, map[string]any{
		"access_token": rand.Text(),
		"token_type":   "Bearer",
		"expires_in":   60,
		"id_token":     text,
	})
}
