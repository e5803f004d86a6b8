package access

import (
	"bytes"
	"crypto/subtle"
	"encoding/base64"
	"image/png"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"
)

// Time-based one-time passwords, RFC 6238: six digits, a step of 30 s, SHA-1, as all
// authenticators have them. A code counts in its step and the ones beside it, and only once.
const stepSeconds = 30

// NewAuthenticator is a secret for an authenticator, until it is confirmed.
type NewAuthenticator struct {
	Secret string // base32
	URL    string // otpauth://
	Image  string // of it, to be photographed: a data: URL of a PNG
}

// BeginAuthenticator makes a secret for an account. It counts once a code was shown.
func (b *Book) BeginAuthenticator(name, issuer string) (out NewAuthenticator, err error) {
	k, err := totp.Generate(totp.GenerateOpts{Issuer: issuer, AccountName: name})
	if err != nil {
		return out, err
	}
	picture, err := k.Image(200, 200)
	if err != nil {
		return out, err
	}
	var text bytes.Buffer
	if err := png.Encode(&text, picture); err != nil {
		return out, err
	}
	return NewAuthenticator{
		k.Secret(), k.URL(), "data:image/png;base64," + base64.StdEncoding.EncodeToString(text.Bytes()),
	}, nil
}

// UseAuthenticator gives an account an authenticator, of which a code is shown.
func (b *Book) UseAuthenticator(by By, name, secret, code string) error {
	step, ok := stepOf(secret, code, b.now(), 0)
	if !ok {
		return wrong("code", "the code is not what an authenticator with this secret shows at %s; is its clock right?",
			b.now().UTC().Format("15:04:05 UTC"))
	}
	return b.amend(by, "account.authenticator", name, func(row *accountRow) (err error) {
		row.Step = step
		row.Sealed, err = b.key.seal([]byte(secret), name)
		return err
	})
}

// ForgetAuthenticator takes it away again.
func (b *Book) ForgetAuthenticator(by By, name string) error {
	return b.amend(by, "account.authenticator", name, func(row *accountRow) error {
		row.Sealed, row.Step = nil, 0
		return nil
	})
}

// useAuthenticator checks a code, and notes that it was used.
func (b *Book) useAuthenticator(name, code string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	a := b.accounts[name]
	if a == nil {
		return errNo
	}
	secret, err := b.key.open(a.row.Sealed, name)
	if err != nil {
		return wrong("key",
			"the secret of the authenticator of %s cannot be read: %v; an administrator can have the account begin anew",
			name, err)
	}
	step, ok := stepOf(string(secret), code, b.now(), a.row.Step)
	if !ok {
		return errNo
	}
	row := a.row
	row.Step = step
	next, err := newAccount(row, a.passkeys)
	if err != nil {
		return err
	}
	if err := b.db.Save(&row).Error; err != nil {
		return err
	}
	b.accounts[name] = next
	return nil
}

// stepOf returns the step that a code is of, when that is later than the last one used.
func stepOf(secret, code string, now time.Time, last int64) (step int64, ok bool) {
	present := now.Unix() / stepSeconds
	for step := max(present-1, last+1); step <= present+1; step++ {
		want, err := totp.GenerateCodeCustom(secret, time.Unix(step*stepSeconds, 0), totp.ValidateOpts{
			Period:    stepSeconds,
			Digits:    otp.DigitsSix,
			Algorithm: otp.AlgorithmSHA1,
		})
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return step, true
		}
	}
	return 0, false
}
