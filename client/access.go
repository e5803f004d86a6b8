package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// Session says who the caller is, and how one can log in.
type Session struct {
	LoginNeeded bool     `json:"login_needed"`
	Open        bool     `json:"open"`        // other machines reach the service, and nobody has to log in
	Setup       bool     `json:"setup"`       // there is no administrator yet: the service's start printed a code
	Provider    string   `json:"provider"`    // at which one can log in as well; "": none
	Fingerprint string   `json:"fingerprint"` // SHA-256 of the service's certificate; "": it has none
	Central     bool     `json:"central"`     // gateways replicate to it
	Name        string   `json:"name"`        // of the account or token
	Kind        string   `json:"kind"`        // account, token, or anyone
	Role        string   `json:"role"`
	Sees        []string `json:"sees"`  // selectors; none: everything
	Whole       bool     `json:"whole"` // sees all that the service holds
}

// Login is somebody who logs in.
type Login struct {
	Account  string `json:"account,omitempty"`
	Password string `json:"password,omitempty"`
	Code     string `json:"code,omitempty"` // of the authenticator; or, alone, one that begins a session
	By       string `json:"by,omitempty"`   // "command line": the session's secret comes in the answer, and no cookie
}

// LoggedIn is a session that has begun.
type LoggedIn struct {
	Account string    `json:"account"`
	Ends    time.Time `json:"ends"`
	Secret  string    `json:"secret,omitempty"`
}

// Redeem uses a code with which an account's password is set.
type Redeem struct {
	Code     string `json:"code"`
	Account  string `json:"account,omitempty"` // a name for the first administrator; others' codes know theirs
	Password string `json:"password"`
}

// Redeemed is whose password was set.
type Redeemed struct {
	Account string `json:"account"`
}

// Ceremony is the first half of what a browser does with a passkey (Web Authentication).
type Ceremony struct {
	Ceremony string `json:"ceremony"`
	Options  any    `json:"options"` // of navigator.credentials, in their JSON form
}

// CeremonyDone is the second half.
type CeremonyDone struct {
	Ceremony string          `json:"ceremony"`
	Name     string          `json:"name,omitempty"` // of the new passkey
	Passkey  json.RawMessage `json:"passkey"`        // what the browser made, in its JSON form
}

// Account is one, as an administrator sees it.
type Account struct {
	Name          string    `json:"name"`
	Role          string    `json:"role"`
	Sees          []string  `json:"sees"`
	Password      bool      `json:"password"` // one is set
	Authenticator bool      `json:"authenticator"`
	Passkeys      int       `json:"passkeys"`
	Provider      string    `json:"provider"` // at which it logs in; "": here
	Locked        bool      `json:"locked"`
	Created       time.Time `json:"created"`
	Sessions      int       `json:"sessions"`
}

// Accounts are all.
type Accounts struct {
	Accounts []Account `json:"accounts"`
}

// NewAccount is one to be made.
type NewAccount struct {
	Name string   `json:"name"`
	Role string   `json:"role"`
	Sees []string `json:"sees"`
}

// AccountChange lists new values for an account; missing ones stay.
type AccountChange struct {
	Role   *string   `json:"role,omitempty"`
	Sees   *[]string `json:"sees,omitempty"`
	Locked *bool     `json:"locked,omitempty"`
}

// AccountCode is a code with which the owner of an account sets its password, once.
type AccountCode struct {
	Account string `json:"account"`
	Code    string `json:"code"`
}

// OwnAccount is the account that asks.
type OwnAccount struct {
	Account  Account       `json:"account"`
	Sessions []OpenSession `json:"sessions"`
	Passkeys []Passkey     `json:"passkeys"`
}

// OpenSession is a session of an account.
type OpenSession struct {
	ID      string    `json:"id"`
	By      string    `json:"by"` // console, command line
	From    string    `json:"from"`
	Agent   string    `json:"agent"`
	Created time.Time `json:"created"`
	Used    time.Time `json:"used"`
	Ends    time.Time `json:"ends"`
	Present bool      `json:"present"` // it is the one that asks
}

// Passkey is one of an account.
type Passkey struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Created time.Time  `json:"created"`
	Used    *time.Time `json:"used"`
}

// Proof is the present password, without which nothing of an account changes that lets in.
type Proof struct {
	Password string `json:"password"`
	ID       string `json:"id,omitempty"` // of the passkey that goes
}

// NewPassword takes the place of the present one.
type NewPassword struct {
	Present  string `json:"present"`
	Password string `json:"password"`
}

// Authenticator is a secret for an authenticator (RFC 6238), which counts once a code is shown.
type Authenticator struct {
	Secret string `json:"secret"`
	URL    string `json:"url"`   // otpauth://
	Image  string `json:"image"` // of the same, as a data: URL
}

// AuthenticatorCode shows that an authenticator has the secret.
type AuthenticatorCode struct {
	Password string `json:"password"`
	Secret   string `json:"secret"`
	Code     string `json:"code"`
}

// Token is one, without its secret.
type Token struct {
	Name    string     `json:"name"`
	Role    string     `json:"role"`
	Sees    []string   `json:"sees"`
	Creator string     `json:"creator"`
	Created time.Time  `json:"created"`
	Ends    *time.Time `json:"ends"`
	Used    *time.Time `json:"used"`
	From    string     `json:"from"`
}

// Tokens are all.
type Tokens struct {
	Tokens []Token `json:"tokens"`
}

// NewToken is one to be made.
type NewToken struct {
	Name string     `json:"name"`
	Role string     `json:"role"`
	Sees []string   `json:"sees"`
	Ends *time.Time `json:"ends,omitempty"`
}

// MadeToken is a new one; its secret is not shown again.
type MadeToken struct {
	Name   string `json:"name"`
	Secret string `json:"secret"`
}

// Enrol lets a gateway join.
type Enrol struct {
	Gateway string   `json:"gateway"`         // its site
	Sites   []string `json:"sites,omitempty"` // first levels of the series it may send; its own when missing
}

// Enrolment is a code for a gateway, for one use.
type Enrolment struct {
	Gateway     string    `json:"gateway"`
	Code        string    `json:"code"`
	Ends        time.Time `json:"ends"`
	Fingerprint string    `json:"fingerprint"` // of this service's certificate, to be compared there
}

// Join is a gateway that uses its code.
type Join struct {
	Gateway string `json:"gateway"`
	Code    string `json:"code"`
}

// Joined is the credential it gets.
type Joined struct {
	Gateway string `json:"gateway"`
	Secret  string `json:"secret"`
}

// EnrolledGateway is one that has a credential of its own, or had one.
type EnrolledGateway struct {
	Gateway  string     `json:"gateway"`
	Sites    []string   `json:"sites"`
	Enrolled time.Time  `json:"enrolled"`
	Renewed  time.Time  `json:"renewed"` // when its present credential was first used
	Revoked  *time.Time `json:"revoked"`
	Used     *time.Time `json:"used"`
	From     string     `json:"from"`
}

// EnrolledGateways are all.
type EnrolledGateways struct {
	Gateways []EnrolledGateway `json:"gateways"`
}

// AuditEntry records an action or a refusal.
type AuditEntry struct {
	ID       uint64          `json:"id"`
	Time     time.Time       `json:"time"`
	Who      string          `json:"who"`
	Kind     string          `json:"kind"` // account, token, gateway, provider, code, machine, anyone
	From     string          `json:"from"`
	Action   string          `json:"action"`
	Target   string          `json:"target"`
	Outcome  string          `json:"outcome"` // done, refused, failed
	Reason   string          `json:"reason"`
	Times    int             `json:"times"`
	Before   json.RawMessage `json:"before"`
	After    json.RawMessage `json:"after"`
	Previous string          `json:"previous"`
	Sum      string          `json:"sum"`
}

// Audit is entries, the newest first.
type Audit struct {
	Entries []AuditEntry `json:"entries"`
	Next    *string      `json:"next"` // the cursor of those before; nil: there are none
}

// AuditQuery says which entries are wanted; what is empty does not narrow.
type AuditQuery struct {
	Who, Action, Outcome, From string
	Since, Until               time.Time
	Cursor                     string // Next of the answer before
	Limit                      int
}

// AuditVerified is the result of verifying the chain.
type AuditVerified struct {
	Entries  int      `json:"entries"`
	First    uint64   `json:"first"`
	Last     uint64   `json:"last"`
	Sum      string   `json:"sum"`
	Problems []string `json:"problems"`
}

// Session calls GET /session.
func (c *Client) Session(ctx context.Context) (Session, error) {
	return get[Session](ctx, c, "session", nil)
}

// Login calls POST /session.
func (c *Client) Login(ctx context.Context, l Login) (LoggedIn, error) {
	return post[LoggedIn](ctx, c, "session", l)
}

// Logout ends the session that the client's token is of.
func (c *Client) Logout(ctx context.Context) error { return c.remove(ctx, "session") }

// Redeem calls /session/redeem.
func (c *Client) Redeem(ctx context.Context, r Redeem) (Redeemed, error) {
	return post[Redeemed](ctx, c, "session/redeem", r)
}

// OwnAccount calls /account.
func (c *Client) OwnAccount(ctx context.Context) (OwnAccount, error) {
	return get[OwnAccount](ctx, c, "account", nil)
}

// Accounts calls /accounts.
func (c *Client) Accounts(ctx context.Context) (Accounts, error) {
	return get[Accounts](ctx, c, "accounts", nil)
}

// AddAccount makes an account.
func (c *Client) AddAccount(ctx context.Context, a NewAccount) (AccountCode, error) {
	return post[AccountCode](ctx, c, "accounts", a)
}

// ChangeAccount changes one.
func (c *Client) ChangeAccount(ctx context.Context, name string, change AccountChange) (Account, error) {
	return sent[Account](ctx, c, http.MethodPatch, "accounts/"+url.PathEscape(name), change)
}

// RemoveAccount removes one.
func (c *Client) RemoveAccount(ctx context.Context, name string) error {
	return c.remove(ctx, "accounts/"+url.PathEscape(name))
}

// AccountCode makes a code for setting an account's password anew.
func (c *Client) AccountCode(ctx context.Context, name string) (AccountCode, error) {
	return post[AccountCode](ctx, c, "accounts/"+url.PathEscape(name)+"/code", struct{}{})
}

// LogoutAccount ends all sessions of an account.
func (c *Client) LogoutAccount(ctx context.Context, name string) error {
	return c.remove(ctx, "accounts/"+url.PathEscape(name)+"/sessions")
}

// Tokens calls /tokens.
func (c *Client) Tokens(ctx context.Context) (Tokens, error) {
	return get[Tokens](ctx, c, "tokens", nil)
}

// AddToken makes a token.
func (c *Client) AddToken(ctx context.Context, t NewToken) (MadeToken, error) {
	return post[MadeToken](ctx, c, "tokens", t)
}

// RevokeToken ends one.
func (c *Client) RevokeToken(ctx context.Context, name string) error {
	return c.remove(ctx, "tokens/"+url.PathEscape(name))
}

// Gateways returns the enrolled gateways.
func (c *Client) Gateways(ctx context.Context) (EnrolledGateways, error) {
	return get[EnrolledGateways](ctx, c, "gateways", nil)
}

// Enrol makes a code with which a gateway joins.
func (c *Client) Enrol(ctx context.Context, e Enrol) (Enrolment, error) {
	return post[Enrolment](ctx, c, "gateways", e)
}

// RevokeGateway ends a gateway's credential.
func (c *Client) RevokeGateway(ctx context.Context, name string) error {
	return c.remove(ctx, "gateways/"+url.PathEscape(name))
}

// Join uses a gateway's code.
func (c *Client) Join(ctx context.Context, j Join) (Joined, error) {
	return post[Joined](ctx, c, "join", j)
}

// Audit calls /audit.
func (c *Client) Audit(ctx context.Context, q AuditQuery) (Audit, error) {
	v := values("who", q.Who, "action", q.Action, "outcome", q.Outcome, "caller", q.From, "cursor", q.Cursor)
	for name, t := range map[string]time.Time{"from": q.Since, "to": q.Until} {
		if !t.IsZero() {
			v.Set(name, t.UTC().Format(time.RFC3339Nano))
		}
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	return get[Audit](ctx, c, "audit", v)
}

// VerifyAudit calls /audit/verify.
func (c *Client) VerifyAudit(ctx context.Context) (AuditVerified, error) {
	return get[AuditVerified](ctx, c, "audit/verify", nil)
}

func (c *Client) remove(ctx context.Context, call string) error {
	resp, err := c.send(ctx, http.MethodDelete, call, nil)
	if err != nil {
		return err
	}
	return resp.Body.Close()
}
