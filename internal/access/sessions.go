package access

import (
	"crypto/rand"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/event"
)

// What a bearer begins with says what it is.
const (
	sessionPrefix = "nxs_"
	tokenPrefix   = "nxt_"
	gatewayPrefix = "nxg_"
)

type session struct {
	row sessionRow
	use use
}

// Session is one that has begun.
type Session struct {
	Bearer  string // lets in; it is not kept here
	Account string
	Ends    time.Time
	Device  string // shows the next time that somebody logged in from this device
}

// OpenSession is a session for its owner to look at.
type OpenSession struct {
	ID      string // not enough to let in
	By      string
	From    string
	Agent   string
	Created time.Time
	Used    time.Time
	Ends    time.Time // unless it is used again
}

const (
	mostSessions = 50 // of an account; the one that was used longest ago ends
	longestAgent = 200
	commandLine  = "command line"
	idLength     = 12 // of the digits of its hash
)

func (b *Book) loadSessions() error {
	var rows []sessionRow
	if err := b.db.Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		if err := checkSum("a session of "+row.Account, row.Checksum, &row); err != nil {
			b.unreadable("session "+row.Hash, err)
			continue
		}
		b.sessions[row.Hash] = &session{row: row, use: use{at: row.Used, from: row.From}}
	}
	return nil
}

// begin begins a session of an account.
func (b *Book) begin(a Attempt) (Session, error) {
	bearer := sessionPrefix + rand.Text()
	now := b.now().UnixNano()
	row := sessionRow{
		Hash:    hashOf(bearer),
		Account: a.Account,
		By:      a.By,
		Created: now,
		Used:    now,
		From:    a.From,
		Agent:   strings.ToValidUTF8(a.Agent[:min(len(a.Agent), longestAgent)], ""),
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	who := b.accounts[a.Account]
	if who == nil || who.row.Locked { // it was removed meanwhile
		return Session{}, errNo
	}
	oldest := b.oldest(a.Account)
	err := b.change(By{a.Account, "account", a.From}, Entry{
		Action: "login",
		Target: a.Account,
		After:  state(map[string]string{"by": a.By}),
	}, func(tx *gorm.DB) error {
		if oldest != "" {
			if err := tx.Delete(&sessionRow{Hash: oldest}).Error; err != nil {
				return err
			}
		}
		return tx.Create(&row).Error
	}, func() {
		delete(b.sessions, oldest)
		b.sessions[row.Hash] = &session{row: row, use: use{at: now, from: a.From}}
	})
	return Session{bearer, a.Account, time.Unix(0, now).Add(b.options.Ends).UTC(), b.device(who)}, err
}

// oldest returns the session that has to go for another; "" when there is room.
func (b *Book) oldest(name string) (hash string) {
	count, oldest := 0, int64(0)
	for h, s := range b.sessions {
		if s.row.Account != name {
			continue
		}
		count++
		if at, _ := s.use.last(); hash == "" || at < oldest {
			hash, oldest = h, at
		}
	}
	if count < mostSessions {
		return ""
	}
	return hash
}

// endOf returns when a session ends if it is not used again.
func (b *Book) endOf(s *session) time.Time {
	used, _ := s.use.last()
	idle := b.options.Idle
	if s.row.By == commandLine {
		idle = b.options.Ends
	}
	ends, unused := timeOf(s.row.Created).Add(b.options.Ends), timeOf(used).Add(idle)
	if unused.Before(ends) {
		return unused
	}
	return ends
}

// hasBeen reports whether an account is logged in from an address. b.mu is held.
func (b *Book) hasBeen(name, from string) bool {
	for _, s := range b.sessions {
		if s.row.Account == name && s.row.From == from {
			return true
		}
	}
	return false
}

// forgetSessions lets go of what is no longer in the file. b.mu is held.
func (b *Book) forgetSessions(name string) {
	for hash, s := range b.sessions {
		if s.row.Account == name {
			delete(b.sessions, hash)
		}
	}
}

// endOthers ends all sessions of an account but one, which may be none. b.mu is held.
func (b *Book) endOthers(by By, name, stays string) error {
	for hash, s := range b.sessions {
		if s.row.Account == name && hash != hashOf(stays) {
			if err := b.endOne(by, hash, s); err != nil {
				return err
			}
		}
	}
	return nil
}

func (b *Book) endOne(by By, hash string, s *session) error {
	return b.change(by, Entry{
		Action: "logout",
		Target: s.row.Account,
		Before: state(map[string]string{"session": hash[:idLength], "by": s.row.By, "from": s.row.From}),
	}, func(tx *gorm.DB) error {
		return tx.Delete(&sessionRow{Hash: hash}).Error
	}, func() { delete(b.sessions, hash) })
}

// Logout ends the session of a bearer.
func (b *Book) Logout(by By, bearer string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := b.sessions[hashOf(bearer)]; s != nil {
		return b.endOne(by, hashOf(bearer), s)
	}
	return nil
}

// EndSession ends one of an account's sessions.
func (b *Book) EndSession(by By, name, id string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	for hash, s := range b.sessions {
		if s.row.Account == name && hash[:idLength] == id {
			return b.endOne(by, hash, s)
		}
	}
	return wrong("unknown", "%s has no session %q; it may have ended", name, id)
}

// Sessions returns the sessions of an account, newest first.
func (b *Book) Sessions(name string) []OpenSession {
	b.mu.RLock()
	defer b.mu.RUnlock()
	out := []OpenSession{}
	for hash, s := range b.sessions {
		if s.row.Account == name {
			used, from := s.use.last()
			out = append(out, OpenSession{
				hash[:idLength], s.row.By, from, s.row.Agent, timeOf(s.row.Created), timeOf(used), b.endOf(s),
			})
		}
	}
	slices.SortFunc(out, func(a, b OpenSession) int { return b.Created.Compare(a.Created) })
	return out
}

// SessionID is by which Sessions names the session of a bearer.
func SessionID(bearer string) string { return hashOf(bearer)[:idLength] }

// endSessions ends those whose time is over.
func (b *Book) endSessions() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for hash, s := range b.sessions {
		if b.now().After(b.endOf(s)) {
			if err := b.db.Delete(&sessionRow{Hash: hash}).Error; err != nil {
				event.SessionKept.To(b.options.Log, "account", s.row.Account,
					"error", err)
				continue
			}
			delete(b.sessions, hash)
		}
	}
}

// LogoutAccount ends all sessions of an account.
func (b *Book) LogoutAccount(by By, name string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, err := b.account(name); err != nil {
		return err
	}
	return b.endOthers(by, name, "")
}
