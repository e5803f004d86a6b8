package mqtt

import (
	"bufio"
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"nexocumula/internal/secret"
)

// accounts are names and hashes of passwords from a file, a line each: name:hash. It is
// read again when it changes.
type accounts struct {
	file string

	mu       sync.Mutex
	looked   time.Time
	modified time.Time
	hashes   map[string]string
	trouble  error

	// A hash is made to be slow; devices come back often. What was right once is remembered,
	// by a key of this process.
	key   []byte
	right map[string][]byte
	came  map[string]string // address from which an account was let in last
	turns *turns
}

func openAccounts(file string) (*accounts, error) {
	a := &accounts{
		file:  file,
		key:   make([]byte, 32),
		right: map[string][]byte{},
		came:  map[string]string{},
		turns: newTurns(),
	}
	_, _ = rand.Read(a.key) // never fails
	return a, a.read()
}

func (a *accounts) read() error {
	about, err := os.Stat(a.file)
	if err == nil {
		err = secret.OnlyOwner(a.file)
	}
	if err != nil {
		return err
	}
	text, err := os.ReadFile(a.file)
	if err != nil {
		return err
	}
	hashes := map[string]string{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, hash, ok := strings.Cut(line, ":")
		if !ok || name == "" {
			return fmt.Errorf("%s:%d: write name:hash, as nexocumula password makes it", a.file, n)
		}
		if err := secret.CheckHash(hash); err != nil {
			return fmt.Errorf("%s:%d: account %s: %w", a.file, n, name, err)
		}
		if _, twice := hashes[name]; twice {
			return fmt.Errorf("%s:%d: account %s is there twice", a.file, n, name)
		}
		hashes[name] = hash
	}
	if err := lines.Err(); err != nil {
		return err
	}
	a.hashes, a.modified, a.right = hashes, about.ModTime(), map[string][]byte{}
	return nil
}

// hash returns the password hash of a name. It reads the file again when it has changed.
func (a *accounts) hash(name string) (hash string, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if time.Since(a.looked) >= time.Second {
		a.looked = time.Now()
		if about, err := os.Stat(a.file); err != nil || !about.ModTime().Equal(a.modified) {
			a.trouble = a.read() // what was read before counts until it can be
		}
	}
	hash, ok = a.hashes[name]
	return hash, ok
}

// nobody is a hash that no password has, so that a name that is not there takes as long.
const nobody = "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

// verdict is the result of checking a password.
type verdict int

const (
	letIn verdict = iota
	turnedAway
	tooBusy // to look at it; whoever it is may come again
)

// let says whether somebody at an address is let in with a password.
func (a *accounts) let(name string, password []byte, address string) verdict {
	hash, there := a.hash(name)
	mark := hmac.New(sha256.New, a.key)
	fmt.Fprintf(mark, "%d:%s:%s", len(name), name, password)
	sum := mark.Sum(nil)
	a.mu.Lock()
	before, cameFrom := there && hmac.Equal(a.right[name], sum), a.came[name]
	a.mu.Unlock()
	if before {
		return letIn
	}
	place := known
	switch {
	case !there:
		hash, place = nobody, unknown
	case cameFrom == address:
		place = wasHere
	case a.turns.often(address):
		place = unknown
	}
	if !a.turns.take(place) {
		return tooBusy
	}
	right := secret.Matches(hash, password)
	a.turns.give()
	if !right || !there {
		a.turns.failed(address)
		return turnedAway
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.hashes[name] == hash {
		a.right[name], a.came[name] = sum, address
	}
	return letIn
}

// problem is why the file as it is now cannot be used.
func (a *accounts) problem() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.trouble
}
