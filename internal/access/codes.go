package access

import (
	"cmp"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Codes are for one use: whoever has one may do what it is for. They are looked up in the
// file, so that one that is made by another process counts at once.
const (
	forAdministrator = "administrator" // making an account that governs
	forPassword      = "password"      // setting that of an account
	forGateway       = "gateway"       // getting a gateway's credential
	forSession       = "session"       // beginning a session elsewhere
)

const (
	administratorCodeLasts = 24 * time.Hour
	passwordCodeLasts      = 7 * 24 * time.Hour
	gatewayCodeLasts       = time.Hour
	sessionCodeLasts       = 10 * time.Minute
)

// letters of codes: none that is taken for another. 32 of them, so that each is 5 bits.
const letters = "23456789abcdefghjkmnpqrstuvwxyz!"

// newCode makes one, and takes away those that were made for the same before.
func (b *Book) newCode(tx *gorm.DB, row codeRow, lasts time.Duration) (string, error) {
	code := writeCode()
	row.Hash, row.Ends = hashOf(plainCode(code)), b.now().Add(lasts).UnixNano()
	if err := tx.Where("purpose = ? AND subject = ? OR ends < ?", row.Purpose, row.Subject, b.now().UnixNano()).Delete(&codeRow{}).Error; err != nil {
		return "", err
	}
	return code, tx.Create(&row).Error
}

const codeLetters = 20 // 97 bits

func writeCode() string {
	const of = len(letters) - 1 // the last one fills up to 32, and is not used
	var out strings.Builder
	raw := make([]byte, 1)
	for n := 0; n < codeLetters; {
		_, _ = rand.Read(raw) // never fails
		if k := int(raw[0] & 31); k < of {
			if n > 0 && n%5 == 0 {
				out.WriteByte('-')
			}
			out.WriteByte(letters[k])
			n++
		}
	}
	return out.String()
}

// plainCode returns a code as it is hashed, however it was typed.
func plainCode(code string) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return -1
		}
		return r
	}, strings.ToLower(strings.TrimSpace(code)))
}

// findCode returns a code that can be used.
func (b *Book) findCode(code, purpose string) (codeRow, error) {
	var row codeRow
	err := b.db.Where("hash = ?", hashOf(plainCode(code))).First(&row).Error
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound) || err == nil && row.Purpose != purpose && purpose != "":
		return row, wrong("code",
			"the code is not known here, or it was used; codes are for one use, have another made")
	case err != nil:
		return row, err
	case checkSum("the code", row.Checksum, &row) != nil:
		return row, wrong("code", "the code was damaged on disk; have another made")
	case row.Ends < b.now().UnixNano():
		return row, wrong("code", "the code was good until %s; have another made",
			timeOf(row.Ends).Format(time.RFC3339))
	}
	return row, nil
}

// useCode takes a code away, in the transaction of what it is used for.
func useCode(tx *gorm.DB, row codeRow) error {
	done := tx.Where("hash = ?", row.Hash).Delete(&codeRow{})
	if done.Error == nil && done.RowsAffected != 1 {
		return wrong("code", "the code was used a moment ago")
	}
	return done.Error
}

// AdministratorCode makes a code with which whoever has it makes an account that governs,
// or sets one's password anew and takes its second factors away.
func (b *Book) AdministratorCode(by By) (code string, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	err = b.change(by, Entry{Action: "accounts.code", Target: "administrator"}, func(tx *gorm.DB) error {
		code, err = b.newCode(tx, codeRow{Purpose: forAdministrator}, administratorCodeLasts)
		return err
	}, nil)
	return code, err
}

// PasswordCode makes a code with which the owner of an account sets its password anew; its
// second factors go as well, and its sessions end when it is used.
func (b *Book) PasswordCode(by By, name string) (code string, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, err := b.account(name); err != nil {
		return "", err
	}
	err = b.change(by, Entry{Action: "accounts.code", Target: name}, func(tx *gorm.DB) error {
		code, err = b.newCode(tx, codeRow{Purpose: forPassword, Subject: name}, passwordCodeLasts)
		return err
	}, nil)
	return code, err
}

// SessionCode makes a code with which somebody who is logged in begins a session elsewhere,
// where his passkey or his provider cannot be asked.
func (b *Book) SessionCode(by By, name string) (code string, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	err = b.change(by, Entry{Action: "account.code", Target: name}, func(tx *gorm.DB) error {
		code, err = b.newCode(tx, codeRow{Purpose: forSession, Subject: name}, sessionCodeLasts)
		return err
	}, nil)
	return code, err
}

// ErrPasswordCode says that a code is good, and begins no session by itself.
var ErrPasswordCode = &Wrong{"password_code", "this code sets a password; give one with it"}

// LoginByCode begins a session with such a code.
func (b *Book) LoginByCode(a Attempt) (Session, error) {
	if wait := b.delays.left("", a.From, false); wait > 0 {
		return Session{}, tooSoon(wait)
	}
	row, err := b.findCode(a.Code, "")
	switch {
	case err == nil && row.Purpose == forSession:
	case err == nil && row.Purpose != forGateway:
		return Session{}, ErrPasswordCode
	default:
		if err == nil {
			err = wrong("code", "this code is for a gateway; redeem it there with nexocumula join")
		}
		b.failed(a.From, "login", "", err)
		return Session{}, err
	}
	if err := b.db.Transaction(func(tx *gorm.DB) error { return useCode(tx, row) }); err != nil {
		return Session{}, err
	}
	a.Account = row.Subject
	return b.begin(a)
}

// Redeem uses a code of an account: the account it is for, or for an administrator's that
// of the name given, gets the password.
func (b *Book) Redeem(from, code, name, password string) (account string, err error) {
	if err := checkPassword(password, name); err != nil {
		return "", err
	}
	if wait := b.delays.left("", from, false); wait > 0 {
		return "", tooSoon(wait)
	}
	row, err := b.findCode(code, "")
	if err == nil && row.Purpose == forGateway {
		err = wrong("code", "this code is for a gateway; redeem it there with nexocumula join")
	}
	if err == nil && row.Purpose == forSession {
		err = wrong("code",
			"this code begins a session at a command line, with nexocumula login --code; it sets no password")
	}
	if err != nil {
		b.failed(from, "accounts.redeem", name, err)
		return "", err
	}
	if err := checkPassword(password, cmp.Or(row.Subject, name)); err != nil {
		return "", err
	}
	hash, err := b.hash(password)
	if err != nil {
		return "", err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	before, after, err := b.redeemed(row, name, hash)
	if err != nil {
		return "", err
	}
	name = after.row.Name
	e := Entry{Action: "accounts.redeem", Target: name, After: state(after.show())}
	if before != nil {
		e.Before = state(before.show())
	}
	err = b.change(By{Who: name, Kind: "code", From: from}, e, func(tx *gorm.DB) error {
		if err := useCode(tx, row); err != nil {
			return err
		}
		for _, of := range []any{&sessionRow{}, &passkeyRow{}} {
			if err := tx.Where("account = ?", name).Delete(of).Error; err != nil {
				return err
			}
		}
		return tx.Save(&after.row).Error
	}, func() {
		b.accounts[name] = after
		b.forgetSessions(name)
		b.delays.forget(name, from)
	})
	return name, err
}

// redeemed returns the account that a code is for, before, nil when there was none, and after.
func (b *Book) redeemed(code codeRow, name, hash string) (before, after *account, err error) {
	if code.Purpose == forPassword {
		if name != "" && name != code.Subject {
			return nil, nil, wrong("code", "the code is for another account than %q", name)
		}
		name = code.Subject
	}
	if err := CheckName(name); err != nil {
		return nil, nil, err
	}
	before = b.accounts[name]
	var row accountRow
	switch {
	case code.Purpose == forPassword && before == nil:
		return nil, nil, wrong("unknown", "the account %q was removed", name)
	case before != nil:
		row = before.row
	default:
		row = b.newRow(name, Rights{Role: Administrator})
	}
	if code.Purpose == forAdministrator {
		row.Role, row.Selectors, row.Locked, row.Provider = string(Administrator), "", false, ""
	}
	row.Hash, row.Sealed, row.Step = hash, nil, 0
	after, err = newAccount(row, nil)
	return before, after, err
}

func tooSoon(wait time.Duration) error {
	wait = max(time.Second, wait.Round(time.Second))
	return &TooSoon{wait}
}

// TooSoon refuses an attempt after others that failed.
type TooSoon struct{ Wait time.Duration }

func (t *TooSoon) Error() string {
	return fmt.Sprintf("too many attempts failed; try again in %s", t.Wait)
}
