package access

import (
	"context"
	"crypto/rand"
	"fmt"
	"log/slog"
	"net/http"
	"strings"
	"sync"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
	"gorm.io/gorm"

	"nexocumula/internal/event"
)

// Provider is where an office's people log in, by OpenID Connect Core 1.0: the authorization
// code flow with proof key (RFC 7636).
type Provider struct {
	Name    string // for people
	Issuer  string
	Client  string
	Secret  string
	Address string // of this service, as browsers reach it
	Claim   string // that holds the groups
	Rules   []GroupRule
	HTTP    *http.Client

	mu    sync.Mutex
	found *oidc.Provider
}

// GroupRule says what the members of a group may do; the first that is of one's groups counts.
type GroupRule struct {
	Group string
	Rights
}

// CallbackPath is where a provider sends people back to.
const CallbackPath = "/api/v1/session/provider/back"

// errand is somebody who went to the provider.
type errand struct{ nonce, verifier string }

func (p *Provider) context(ctx context.Context) context.Context {
	if p.HTTP != nil {
		ctx = oidc.ClientContext(ctx, p.HTTP)
	}
	return ctx
}

// reach asks the provider once what it can.
func (p *Provider) reach(ctx context.Context, log *slog.Logger) (*oidc.Provider, *oauth2.Config, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found == nil {
		// The keys are fetched later too, so this must not end with the request.
		found, err := oidc.NewProvider(p.context(context.WithoutCancel(ctx)), p.Issuer)
		if err != nil {
			event.ProviderFailed.To(log, "provider", p.Name, "issuer", p.Issuer,
				"error", err)
			return nil, nil, wrong("provider",
				"%s cannot be reached now, or does not answer as a provider does; the log of this service says more",
				p.Name)
		}
		p.found = found
	}
	return p.found, &oauth2.Config{
		ClientID:     p.Client,
		ClientSecret: p.Secret,
		Endpoint:     p.found.Endpoint(),
		RedirectURL:  p.Address + CallbackPath,
		Scopes:       []string{oidc.ScopeOpenID, "profile", "email", "groups"},
	}, nil
}

// GoToProvider returns where to send somebody to log in, and what he has to bring back.
func (b *Book) GoToProvider(ctx context.Context, p *Provider) (url, state string, err error) {
	_, config, err := p.reach(ctx, b.options.Log)
	if err != nil {
		return "", "", err
	}
	e := errand{rand.Text(), oauth2.GenerateVerifier()}
	state = b.errands.put(e)
	return config.AuthCodeURL(state, oidc.Nonce(e.nonce), oauth2.S256ChallengeOption(e.verifier)), state, nil
}

// BackFromProvider begins a session for whoever comes back with a code.
func (b *Book) BackFromProvider(ctx context.Context, p *Provider, state, code string, a Attempt) (Session, error) {
	name, err := b.proveByProvider(ctx, p, state, code, a.From)
	if err != nil {
		b.Refuse(By{"nobody", "provider", a.From}, "login", "", err.Error())
		return Session{}, err
	}
	a.Account = name
	return b.begin(a)
}

func (b *Book) proveByProvider(ctx context.Context, p *Provider, state, code, from string) (name string, err error) {
	e, ok := b.errands.take(state)
	if !ok {
		return "", wrong("provider", "this took too long, or was begun elsewhere; begin again")
	}
	found, config, err := p.reach(ctx, b.options.Log)
	if err != nil {
		return "", err
	}
	ctx = p.context(ctx)
	answer, err := config.Exchange(ctx, code, oauth2.VerifierOption(e.verifier))
	if err != nil {
		return "", wrong("provider", "%s does not know the code that was brought back", p.Name)
	}
	raw, _ := answer.Extra("id_token").(string)
	token, err := found.VerifierContext(ctx, &oidc.Config{ClientID: p.Client, Now: b.options.Now}).Verify(ctx, raw)
	if err != nil {
		event.ProviderUntrusted.To(b.options.Log, "provider", p.Name, "error", err)
		return "", wrong("provider", "what %s says of who you are cannot be trusted; the log of this service says why",
			p.Name)
	}
	if token.Nonce != e.nonce {
		return "", wrong("provider", "what %s says was meant for another login", p.Name)
	}
	if strings.TrimSpace(token.Subject) == "" {
		return "", wrong("provider", "%s does not say who you are (sub is empty)", p.Name)
	}
	var claims map[string]any
	if err := token.Claims(&claims); err != nil {
		return "", wrong("provider", "what %s says of who you are cannot be read: %v", p.Name, err)
	}
	// OpenID Connect Core 1.0, 3.1.3.7: a token that was made for another client is not for us, though it names us.
	if party, there := claims["azp"]; there && party != p.Client || !there && len(token.Audience) > 1 {
		return "", wrong("provider", "what %s says was meant for another program (azp)", p.Name)
	}
	return b.member(p, token.Issuer+" "+token.Subject, claims, from)
}

// member returns the account of somebody whom a provider knows, with the rights that his groups
// give him now.
func (b *Book) member(p *Provider, provider string, claims map[string]any, from string) (string, error) {
	rights, ok := p.rightsOf(claims[p.Claim])
	if !ok {
		return "", wrong("provider", "none of your groups at %s may use this service", p.Name)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	before := b.memberOf(provider)
	row := b.newRow("", rights)
	var passkeys []passkeyRow
	if before != nil {
		row, passkeys = before.row, before.passkeys
		row.Role, row.Selectors = string(rights.Role), rights.Scope.text()
	} else {
		row.Name, row.Provider = nameOf(claims), provider
		if err := CheckName(row.Name); err != nil {
			return "", err
		}
		if b.accounts[row.Name] != nil {
			return "", wrong("taken", "there is another account %q here; an administrator can remove it", row.Name)
		}
		if len(b.accounts) >= mostAccounts {
			return "", wrong("many", "there are %d accounts, and no more are kept", mostAccounts)
		}
	}
	if row.Locked {
		return "", wrong("locked", "the account %s is locked here", row.Name)
	}
	after, err := newAccount(row, passkeys)
	if err != nil {
		return "", err
	}
	e := Entry{Action: "accounts.provider", Target: row.Name, After: state(after.show())}
	if before != nil {
		if before.role == after.role && before.scope.text() == after.scope.text() {
			return row.Name, nil
		}
		e.Before = state(before.show())
	}
	return row.Name, b.change(By{row.Name, "provider", from}, e,
		func(tx *gorm.DB) error { return tx.Save(&row).Error }, func() { b.accounts[row.Name] = after })
}

func (b *Book) memberOf(provider string) *account {
	for _, a := range b.accounts {
		if a.row.Provider == provider {
			return a
		}
	}
	return nil
}

func (p *Provider) rightsOf(claim any) (Rights, bool) {
	groups := map[string]bool{}
	switch c := claim.(type) {
	case string:
		groups[c] = true
	case []any:
		for _, one := range c {
			groups[fmt.Sprint(one)] = true
		}
	}
	for _, rule := range p.Rules {
		if groups[rule.Group] {
			return rule.Rights, true
		}
	}
	return Rights{}, false
}

// nameOf returns the account name of a provider's user.
func nameOf(claims map[string]any) string {
	for _, claim := range []string{"preferred_username", "email", "sub"} {
		if text, ok := claims[claim].(string); ok && text != "" {
			return strings.ToLower(text)
		}
	}
	return ""
}
