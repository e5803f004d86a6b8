package access

import (
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
)

// account is one of a person's. row is never changed, but replaced.
type account struct {
	row      accountRow
	role     Role
	scope    Scope
	passkeys []passkeyRow
}

// Account describes an account without its secrets.
type Account struct {
	Name      string    `json:"name"`
	Role      Role      `json:"role"`
	Selectors []string  `json:"selectors"` // none: everything
	Password  bool      `json:"password"`  // one is set
	Codes     bool      `json:"authenticator"`
	Passkeys  int       `json:"passkeys"`
	Provider  string    `json:"provider"` // at which it logs in; "": here
	Locked    bool      `json:"locked"`
	Created   time.Time `json:"created"`
	Sessions  int       `json:"-"`
}

func (a *account) show() Account {
	return Account{
		Name: a.row.Name, Role: a.role, Selectors: a.scope.List(), Password: a.row.Hash != "", Codes: len(a.row.Sealed) > 0, Passkeys: len(a.passkeys),
		Provider: a.row.Provider, Locked: a.row.Locked, Created: timeOf(a.row.Created),
	}
}

// newAccount reads a row.
func newAccount(row accountRow, passkeys []passkeyRow) (*account, error) {
	scope, err := scopeOf(row.Selectors)
	if err == nil {
		_, err = ParseRole(row.Role, false)
	}
	if err != nil {
		return nil, fmt.Errorf("account %s: %w", row.Name, err)
	}
	return &account{row, Role(row.Role), scope, passkeys}, nil
}

func (b *Book) loadAccounts() error {
	var rows []accountRow
	var keys []passkeyRow
	if err := b.db.Find(&rows).Error; err != nil {
		return err
	}
	if err := b.db.Order("created").Find(&keys).Error; err != nil {
		return err
	}
	of := map[string][]passkeyRow{}
	for _, k := range keys {
		if err := checkSum("passkey "+k.Name+" of "+k.Account, k.Checksum, &k); err != nil {
			b.unreadable("passkey "+k.ID, err)
			continue
		}
		of[k.Account] = append(of[k.Account], k)
	}
	for _, row := range rows {
		err := checkSum("account "+row.Name, row.Checksum, &row)
		var a *account
		if err == nil {
			a, err = newAccount(row, of[row.Name])
		}
		if err != nil {
			b.unreadable("account "+row.Name, err)
			continue
		}
		b.accounts[row.Name] = a
	}
	return nil
}

const (
	longestName  = 64
	mostAccounts = 10_000
)

// CheckName refuses what is no name of an account, a token or a gateway.
func CheckName(name string) error {
	ok := strings.Trim(name, ".") != "" && len(name) <= longestName && !strings.ContainsFunc(name, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < '0' || r > '9') && !strings.ContainsRune("-_.@", r)
	})
	if !ok {
		return wrong("name", "%q is no name; use 1 to %d of small letters, digits, - _ . and @", name, longestName)
	}
	return nil
}

// Rights holds what an account or a token may do.
type Rights struct {
	Role  Role
	Scope Scope
}

// AddAccount makes an account without a password, and a code with which its owner sets one.
func (b *Book) AddAccount(by By, name string, r Rights) (code string, err error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.accounts[name] != nil {
		return "", wrong("taken", "there is an account %q already; change it, or take another name", name)
	}
	row := b.newRow(name, r)
	a, err := newAccount(row, nil)
	if err != nil {
		return "", err
	}
	if len(b.accounts) >= mostAccounts {
		return "", wrong("many", "there are %d accounts, and no more are kept; remove some", mostAccounts)
	}
	err = b.change(by, Entry{Action: "accounts.add", Target: name, After: state(a.show())}, func(tx *gorm.DB) error {
		if err := tx.Save(&row).Error; err != nil { // in the place of one that cannot be used
			return err
		}
		code, err = b.newCode(tx, codeRow{Purpose: forPassword, Subject: name}, passwordCodeLasts)
		return err
	}, func() {
		b.accounts[name] = a
		delete(b.unusable, "account "+name)
	})
	return code, err
}

func (b *Book) newRow(name string, r Rights) accountRow {
	handle := make([]byte, 32)
	_, _ = rand.Read(handle) // never fails
	return accountRow{
		Name:      name,
		Role:      string(r.Role),
		Selectors: r.Scope.text(),
		Handle:    handle,
		Created:   b.now().UnixNano(),
	}
}

// Change lists new values for an account; nil keeps the old one.
type Change struct {
	Role   *Role
	Scope  *Scope
	Locked *bool
}

// ChangeAccount changes an account. What it may not do any more it may not do from the next
// request on, and one that is locked is logged out.
func (b *Book) ChangeAccount(by By, name string, c Change) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	a, err := b.account(name)
	if err != nil {
		return err
	}
	row := a.row
	if c.Role != nil {
		row.Role = string(*c.Role)
	}
	if c.Scope != nil {
		row.Selectors = c.Scope.text()
	}
	if c.Locked != nil {
		row.Locked = *c.Locked
	}
	next, err := newAccount(row, a.passkeys)
	if err != nil {
		return err
	}
	if !governs(next) && b.lastAdministrator(a) {
		return wrong("last", "%q is the last administrator that can log in and sees everything; make another first",
			name)
	}
	return b.update(by, "accounts.change", a, next, row.Locked)
}

// amend changes what an account logs in with.
func (b *Book) amend(by By, action, name string, change func(*accountRow) error) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	before, err := b.account(name)
	if err != nil {
		return err
	}
	row := before.row
	if err := change(&row); err != nil {
		return err
	}
	after, err := newAccount(row, before.passkeys)
	if err != nil {
		return err
	}
	return b.update(by, action, before, after, false)
}

// update replaces an account, and ends its sessions where that is wanted. b.mu is held.
func (b *Book) update(by By, action string, before, after *account, logOut bool) error {
	name := before.row.Name
	return b.change(by, Entry{
		Action: action,
		Target: name,
		Before: state(before.show()),
		After:  state(after.show()),
	}, func(tx *gorm.DB) error {
		if logOut {
			if err := tx.Where("account = ?", name).Delete(&sessionRow{}).Error; err != nil {
				return err
			}
		}
		return tx.Save(&after.row).Error
	}, func() {
		b.accounts[name] = after
		if logOut {
			b.forgetSessions(name)
		}
	})
}

// RemoveAccount removes an account with all that is its.
func (b *Book) RemoveAccount(by By, name string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	a, err := b.account(name)
	if err != nil {
		return err
	}
	if b.lastAdministrator(a) {
		return wrong("last", "%q is the last administrator that can log in and sees everything; make another first",
			name)
	}
	return b.change(by, Entry{
		Action: "accounts.remove",
		Target: name,
		Before: state(a.show()),
	}, func(tx *gorm.DB) error {
		for _, of := range []any{&sessionRow{}, &passkeyRow{}} {
			if err := tx.Where("account = ?", name).Delete(of).Error; err != nil {
				return err
			}
		}
		if err := tx.Where("purpose IN ? AND subject = ?", []string{forPassword, forSession}, name).Delete(&codeRow{}).Error; err != nil {
			return err
		}
		return tx.Delete(&accountRow{Name: name}).Error
	}, func() {
		delete(b.accounts, name)
		b.forgetSessions(name)
	})
}

// account returns one that there is. b.mu is held.
func (b *Book) account(name string) (*account, error) {
	if a := b.accounts[name]; a != nil {
		return a, nil
	}
	return nil, wrong("unknown", "there is no account %q", name)
}

// governs reports whether an account can set everything right again.
func governs(a *account) bool {
	return a.role == Administrator && a.scope.Everything() && !a.row.Locked && (a.row.Hash != "" || len(a.passkeys) > 0)
}

// lastAdministrator reports whether an account is the only one that governs. b.mu is held.
func (b *Book) lastAdministrator(a *account) bool {
	if !governs(a) {
		return false
	}
	for _, other := range b.accounts {
		if other.row.Name != a.row.Name && governs(other) {
			return false
		}
	}
	return true
}

// Governed reports whether there is an administrator that can log in.
func (b *Book) Governed() bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	for _, a := range b.accounts {
		if governs(a) {
			return true
		}
	}
	return false
}

// Accounts returns all, by name.
func (b *Book) Accounts() []Account {
	b.mu.RLock()
	defer b.mu.RUnlock()
	open := map[string]int{}
	for _, s := range b.sessions {
		open[s.row.Account]++
	}
	out := make([]Account, 0, len(b.accounts))
	for name, a := range b.accounts {
		one := a.show()
		one.Sessions = open[name]
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b Account) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Account returns one.
func (b *Book) Account(name string) (Account, error) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	a, err := b.account(name)
	if err != nil {
		return Account{}, err
	}
	return a.show(), nil
}
