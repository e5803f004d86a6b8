package access

import (
	"strings"
	"time"
)

// Caller identifies the author of a request.
type Caller struct {
	Name   string
	Kind   string // account, token; anyone: nobody said who he is
	Rights        // none of whoever is unknown
	From   string // address
	bearer string
}

// By returns the caller for the audit.
func (c Caller) By() By { return By{Who: c.Name, Kind: c.Kind, From: c.From} }

// Bearer returns the credential that the caller showed.
func (c Caller) Bearer() string { return c.bearer }

// Nobody returns a caller from an address who has shown nothing.
func Nobody(from string, r Rights) Caller {
	return Caller{Name: "nobody", Kind: "anyone", Rights: r, From: from}
}

// Who returns the caller who shows a bearer: a session's, or a token's.
func (b *Book) Who(bearer, from string) (Caller, error) {
	c, err := b.who(bearer, from)
	if err != nil {
		return Nobody(from, Rights{Role: Anyone}), err
	}
	return c, nil
}

func (b *Book) who(bearer, from string) (Caller, error) {
	hash, now := hashOf(bearer), b.now()
	b.mu.RLock()
	defer b.mu.RUnlock()
	switch {
	case strings.HasPrefix(bearer, sessionPrefix):
		s := b.sessions[hash]
		if s == nil {
			return Caller{}, wrong("session", "the session is over; log in again")
		}
		a := b.accounts[s.row.Account]
		if a == nil || a.row.Locked || now.After(b.endOf(s)) {
			return Caller{}, wrong("session", "the session is over; log in again")
		}
		s.use.touch(now, from)
		return Caller{a.row.Name, "account", Rights{a.role, a.scope}, from, bearer}, nil
	case strings.HasPrefix(bearer, tokenPrefix):
		t := b.tokens[hash]
		if t == nil {
			return Caller{}, wrong("token", "the token is not known here; it may have been revoked")
		}
		if t.row.Ends != 0 && now.UnixNano() > t.row.Ends {
			return Caller{}, wrong("token", "the token %s ended on %s; have another made", t.row.Name,
				timeOf(t.row.Ends).Format(time.RFC3339))
		}
		t.use.touch(now, from)
		return Caller{t.row.Name, "token", Rights{t.role, t.scope}, from, bearer}, nil
	}
	return Caller{}, wrong("token", "what was sent is neither a token nor a session of this service")
}

// Still reports whether a caller may go on as before: a stream that was begun ends when not.
func (b *Book) Still(c Caller) bool {
	if c.bearer == "" {
		return true
	}
	now, err := b.who(c.bearer, c.From)
	return err == nil && now.Role == c.Role && now.Scope.text() == c.Scope.text()
}
