package access

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"gorm.io/gorm"
)

// Passkeys (Web Authentication, level 3). One proves both that its owner has it and that it
// was unlocked by him, so that it stands for password and second factor.

// WebOrigin is where a browser reached the service.
type WebOrigin struct {
	Host   string // without a port
	Origin string // https://host:port
}

// ceremony is a registration or login in progress.
type ceremony struct {
	account string // that gets a passkey; "": somebody logs in
	data    webauthn.SessionData
}

// Passkey is one for its owner to look at.
type Passkey struct {
	ID, Name      string
	Created, Used time.Time
}

func (b *Book) relying(at WebOrigin) (*webauthn.WebAuthn, error) {
	if net.ParseIP(at.Host) != nil || at.Host == "" {
		return nil, wrong("address", "passkeys are for a service that is reached by a name; %s is an address", at.Host)
	}
	return webauthn.New(&webauthn.Config{
		RPID: at.Host, RPDisplayName: "Nexocumula", RPOrigins: []string{at.Origin},
		AuthenticatorSelection: protocol.AuthenticatorSelection{
			ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired,
		},
		Timeouts: webauthn.TimeoutsConfig{
			Login:        webauthn.TimeoutConfig{Enforce: true, Timeout: waitingFor},
			Registration: webauthn.TimeoutConfig{Enforce: true, Timeout: waitingFor},
		},
	})
}

// holder is an account as the library wants to see it.
type holder struct{ *account }

func (h holder) WebAuthnID() []byte          { return h.row.Handle }
func (h holder) WebAuthnName() string        { return h.row.Name }
func (h holder) WebAuthnDisplayName() string { return h.row.Name }
func (h holder) WebAuthnCredentials() (out []webauthn.Credential) {
	for _, k := range h.passkeys {
		var c webauthn.Credential
		if json.Unmarshal(k.Credential, &c) == nil {
			out = append(out, c)
		}
	}
	return out
}

const mostPasskeys = 20

// BeginPasskey returns the options for a browser to make a passkey for an account, and the name of the
// ceremony.
func (b *Book) BeginPasskey(name string, at WebOrigin) (options any, ceremonyName string, err error) {
	w, err := b.relying(at)
	if err != nil {
		return nil, "", err
	}
	b.mu.RLock()
	a, err := b.account(name)
	b.mu.RUnlock()
	if err != nil {
		return nil, "", err
	}
	if len(a.passkeys) >= mostPasskeys {
		return nil, "", wrong("many", "the account has %d passkeys; remove one first", mostPasskeys)
	}
	options, data, err := w.BeginRegistration(holder{a},
		webauthn.WithExclusions(webauthn.Credentials(holder{a}.WebAuthnCredentials()).CredentialDescriptors()))
	if err != nil {
		return nil, "", err
	}
	return options, b.ceremonies.put(ceremony{name, *data}), nil
}

// AddPasskey ends the ceremony with what the browser made.
func (b *Book) AddPasskey(by By, name, ceremonyName, keyName string, at WebOrigin, made []byte) error {
	w, err := b.relying(at)
	if err != nil {
		return err
	}
	c, ok := b.ceremonies.take(ceremonyName)
	if !ok || c.account != name {
		return wrong("passkey", "this took too long, or was begun elsewhere; begin again")
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(made)
	if err != nil {
		return wrong("passkey", "what the browser sent is no passkey: %v", err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	a, err := b.account(name)
	if err != nil {
		return err
	}
	credential, err := w.CreateCredential(holder{a}, c.data, parsed)
	if err != nil {
		return wrong("passkey", "the passkey is not accepted: %v", err)
	}
	text, err := json.Marshal(credential)
	if err != nil {
		return err
	}
	row := passkeyRow{
		ID:         base64.RawURLEncoding.EncodeToString(credential.ID),
		Account:    name,
		Name:       clip(keyName),
		Credential: text,
		Created:    b.now().UnixNano(),
	}
	next := &account{a.row, a.role, a.scope, append(slices.Clone(a.passkeys), row)}
	return b.change(by, Entry{
		Action: "account.passkey.add",
		Target: name,
		Before: state(a.show()),
		After:  state(next.show()),
	}, func(tx *gorm.DB) error {
		return tx.Create(&row).Error
	}, func() { b.accounts[name] = next })
}

func clip(name string) string {
	name = strings.ToValidUTF8(name[:min(len(name), longestName)], "")
	if name == "" {
		return "passkey"
	}
	return name
}

// RemovePasskey takes one away.
func (b *Book) RemovePasskey(by By, name, id string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	a, err := b.account(name)
	if err != nil {
		return err
	}
	rest := slices.DeleteFunc(slices.Clone(a.passkeys), func(k passkeyRow) bool { return k.ID == id })
	if len(rest) == len(a.passkeys) {
		return wrong("unknown", "the account has no such passkey")
	}
	next := &account{a.row, a.role, a.scope, rest}
	if b.lastAdministrator(a) && !governs(next) {
		return wrong("last", "nobody could log in any more as an administrator; set a password first")
	}
	return b.change(by, Entry{
		Action: "account.passkey.remove",
		Target: name,
		Before: state(a.show()),
		After:  state(next.show()),
	}, func(tx *gorm.DB) error {
		return tx.Delete(&passkeyRow{ID: id}).Error
	}, func() { b.accounts[name] = next })
}

// Passkeys returns the passkeys of an account.
func (b *Book) Passkeys(name string) []Passkey {
	b.mu.RLock()
	defer b.mu.RUnlock()
	out := []Passkey{}
	if a := b.accounts[name]; a != nil {
		for _, k := range a.passkeys {
			out = append(out, Passkey{k.ID, k.Name, timeOf(k.Created), timeOf(k.Used)})
		}
	}
	return out
}

// BeginPasskeyLogin returns the options for a browser to show a passkey, and the name of the ceremony.
func (b *Book) BeginPasskeyLogin(at WebOrigin) (options any, ceremonyName string, err error) {
	w, err := b.relying(at)
	if err != nil {
		return nil, "", err
	}
	options, data, err := w.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return nil, "", err
	}
	return options, b.ceremonies.put(ceremony{"", *data}), nil
}

// PasskeyLogin begins a session for whoever shows a passkey.
func (b *Book) PasskeyLogin(a Attempt, ceremonyName string, at WebOrigin, shown []byte) (Session, error) {
	if wait := b.delays.left("", a.From, false); wait > 0 {
		return Session{}, tooSoon(wait)
	}
	name, err := b.provePasskey(ceremonyName, at, shown)
	if err != nil {
		b.failed(a.From, "login", "", err)
		return Session{}, err
	}
	a.Account = name
	b.delays.forget(name, a.From)
	return b.begin(a)
}

func (b *Book) provePasskey(ceremonyName string, at WebOrigin, shown []byte) (name string, err error) {
	w, err := b.relying(at)
	if err != nil {
		return "", err
	}
	c, ok := b.ceremonies.take(ceremonyName)
	if !ok || c.account != "" {
		return "", wrong("passkey", "this took too long; begin again")
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(shown)
	if err != nil {
		return "", wrong("passkey", "what the browser sent is no passkey: %v", err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	var owner *account
	_, credential, err := w.ValidatePasskeyLogin(func(_, handle []byte) (webauthn.User, error) {
		for _, a := range b.accounts {
			if bytes.Equal(a.row.Handle, handle) && !a.row.Locked {
				owner = a
				return holder{a}, nil
			}
		}
		return nil, errNo
	}, c.data, parsed)
	if err != nil || credential.Authenticator.CloneWarning {
		return "", wrong("passkey", "this passkey does not let anybody in here")
	}
	return owner.row.Name, b.usedPasskey(owner, credential)
}

// usedPasskey notes the counter of a passkey, by which a copy of it shows. b.mu is held.
func (b *Book) usedPasskey(a *account, c *webauthn.Credential) error {
	text, err := json.Marshal(c)
	if err != nil {
		return err
	}
	keys := slices.Clone(a.passkeys)
	for i := range keys {
		if keys[i].ID == base64.RawURLEncoding.EncodeToString(c.ID) {
			keys[i].Credential, keys[i].Used = text, b.now().UnixNano()
			if err := b.db.Save(&keys[i]).Error; err != nil {
				return err
			}
		}
	}
	b.accounts[a.row.Name] = &account{a.row, a.role, a.scope, keys}
	return nil
}
