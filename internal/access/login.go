package access

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"sync"
	"time"

	"nexocumula/internal/secret"
)

const (
	leastPassword   = 12 // characters
	longestPassword = 1024
	mostHashing     = 1 // at a time; each takes the memory of secret.OfPeople
	hashingWait     = 10 * time.Second
)

// ErrBusy says that too many want to log in at the same time.
var ErrBusy = &Wrong{"busy", "too many log in at the same time; try again in a moment"}

// inHashing does what takes the memory of a hash, a few at a time.
func (b *Book) inHashing(do func()) error {
	ctx, stop := context.WithTimeout(context.Background(), hashingWait)
	defer stop()
	select {
	case b.hashing <- struct{}{}:
	case <-ctx.Done():
		return ErrBusy
	}
	defer func() { <-b.hashing }()
	do()
	return nil
}

func (b *Book) hash(password string) (hash string, err error) {
	err = b.inHashing(func() { hash = secret.HashPassword([]byte(password), secret.OfPeople) })
	return hash, err
}

// nobody is hashed against where there is no account, so that this takes as long.
var nobody = sync.OnceValue(func() string { return secret.HashPassword([]byte(rand.Text()), secret.OfPeople) })

// Attempt is somebody who wants to log in.
type Attempt struct {
	Account, Password string
	Code              string // of an authenticator
	From, Agent       string
	Device            string // what shows that somebody logged in from this device before
	By                string // console or command line
}

// errNo says the same of whatever was wrong, so that nobody learns which accounts there are.
var errNo = &Wrong{"login", "account, password or code is wrong"}

// ErrSecondFactor asks for another proof besides the password, which was right.
var ErrSecondFactor = &Wrong{
	"second_factor",
	"the password alone is not enough here: give the code that the authenticator shows, or log in with a passkey",
}

// Login begins a session.
func (b *Book) Login(a Attempt) (Session, error) {
	name := clipName(a.Account) // whatever was typed is remembered for a while
	place, known := b.place(a)
	var err error
	hashing := b.inHashing(func() {
		if wait := b.delays.left(name, place, known); wait > 0 {
			err = tooSoon(wait)
			return
		}
		if err = b.prove(a); err != nil && err != error(ErrSecondFactor) {
			b.delays.fail(name, place)
		}
	})
	if hashing != nil {
		return Session{}, hashing
	}
	if err != nil {
		if err != error(ErrSecondFactor) {
			b.Refuse(By{name, "anyone", a.From}, "login", "", reasonOf(err))
		}
		return Session{}, err
	}
	b.delays.forget(a.Account, place)
	return b.begin(a)
}

// place is by what the failures of an attempt are counted, and whether those that others made for the account do
// not matter to it: somebody is logged in from the address, the device was used before, or a second
// factor is given, which cannot be guessed from many addresses.
func (b *Book) place(a Attempt) (place string, known bool) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	who := b.accounts[a.Account]
	switch {
	case a.Device != "" && b.knowsDevice(a.Device, who):
		return "device " + hashOf(a.Device), true
	case b.hasBeen(a.Account, a.From):
		return a.From, true
	case who != nil && len(who.row.Sealed) > 0 && a.Code != "":
		return a.From, true
	}
	return a.From, false
}

// prove checks the password and the code of an authenticator.
func (b *Book) prove(a Attempt) error {
	b.mu.RLock()
	who := b.accounts[a.Account]
	b.mu.RUnlock()
	hash := ""
	if who != nil && who.row.Hash != "" {
		hash = who.row.Hash
	}
	if hash == "" {
		secret.Matches(nobody(), []byte("takes as long"))
		return errNo
	}
	right := len(a.Password) <= longestPassword && secret.Matches(hash, []byte(a.Password))
	switch {
	case !right || who.row.Locked:
		return errNo
	case len(who.row.Sealed) > 0 && a.Code != "":
		return b.useAuthenticator(a.Account, a.Code)
	case len(who.row.Sealed) > 0 || len(who.passkeys) > 0:
		return ErrSecondFactor
	}
	return nil
}

// Confirm checks the password of somebody who is logged in.
func (b *Book) Confirm(name, password, from string) error {
	b.mu.RLock()
	who := b.accounts[name]
	known := b.hasBeen(name, from)
	b.mu.RUnlock()
	if who == nil || who.row.Hash == "" {
		return wrong("password", "this account has no password here")
	}
	var err error
	hashing := b.inHashing(func() {
		if wait := b.delays.left(name, from, known); wait > 0 {
			err = tooSoon(wait)
		} else if len(password) > longestPassword || !secret.Matches(who.row.Hash, []byte(password)) {
			b.delays.fail(name, from)
			err = wrong("password", "the present password is another")
		}
	})
	if hashing != nil {
		return hashing
	}
	if err != nil {
		b.Refuse(By{name, "account", from}, "account.password", name, reasonOf(err))
	}
	return err
}

// SetPassword gives an account another password. All other sessions of it end.
func (b *Book) SetPassword(by By, name, password string, stays string) error {
	if err := checkPassword(password, name); err != nil {
		return err
	}
	hash, err := b.hash(password)
	if err != nil {
		return err
	}
	err = b.amend(by, "account.password", name, func(row *accountRow) error {
		row.Hash = hash
		return nil
	})
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.endOthers(by, name, stays)
}

// failed notes an attempt with something that is of no account.
func (b *Book) failed(from, action, target string, err error) {
	b.delays.fail("", from)
	if target != "" {
		target = clipName(target)
	}
	b.Refuse(By{"nobody", "anyone", from}, action, target, err.Error())
}

// reasonOf is why somebody was refused, the same each time, so that it is counted and not
// written anew.
func reasonOf(err error) string {
	if _, soon := errors.AsType[*TooSoon](err); soon {
		return "too many attempts failed"
	}
	return err.Error()
}

// clipName returns a name that somebody typed, who may have typed anything.
func clipName(name string) string {
	if CheckName(name) != nil {
		return fmt.Sprintf("a name of %d bytes that none can have", len(name))
	}
	return name
}
