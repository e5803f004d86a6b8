package access

import (
	"crypto/rand"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
)

type token struct {
	row   tokenRow
	role  Role
	scope Scope
	use   use
}

// Token describes a token without its secret.
type Token struct {
	Name      string    `json:"name"`
	Role      Role      `json:"role"`
	Selectors []string  `json:"selectors"`
	Creator   string    `json:"creator"`
	Created   time.Time `json:"created"`
	Ends      time.Time `json:"ends"` // zero: never
	Used      time.Time `json:"-"`
	From      string    `json:"-"`
}

func (t *token) show() Token {
	used, from := t.use.last()
	return Token{
		t.row.Name, t.role, t.scope.List(), t.row.Creator, timeOf(t.row.Created), timeOf(t.row.Ends), timeOf(used),
		from,
	}
}

func (b *Book) loadTokens() error {
	var rows []tokenRow
	if err := b.db.Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		err := checkSum("token "+row.Name, row.Checksum, &row)
		var scope Scope
		if err == nil {
			scope, err = scopeOf(row.Selectors)
		}
		if err == nil {
			_, err = ParseRole(row.Role, true)
		}
		if err != nil {
			b.unreadable("token "+row.Name, fmt.Errorf("token %s: %w", row.Name, err))
			continue
		}
		b.tokens[row.Hash] = &token{
			row:   row,
			role:  Role(row.Role),
			scope: scope,
			use:   use{at: row.Used, from: row.From},
		}
	}
	return nil
}

const mostTokens = 10_000

// AddToken makes a token; it is shown this once. A zero end is never.
func (b *Book) AddToken(by By, name string, r Rights, ends time.Time) (bearer string, err error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	if !ends.IsZero() && !ends.After(b.now()) {
		return "", wrong("ends", "%s is over already; give an end in the future", ends.UTC().Format(time.RFC3339))
	}
	bearer = tokenPrefix + rand.Text()
	row := tokenRow{
		Name:      name,
		Hash:      hashOf(bearer),
		Role:      string(r.Role),
		Selectors: r.Scope.text(),
		Creator:   by.Who,
		Created:   b.now().UnixNano(),
	}
	if !ends.IsZero() {
		row.Ends = nanoseconds(ends)
	}
	t := &token{row: row, role: r.Role, scope: r.Scope}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.tokenNamed(name) != nil {
		return "", wrong("taken", "there is a token %q already; revoke it, or take another name", name)
	}
	if len(b.tokens) >= mostTokens {
		return "", wrong("many", "there are %d tokens, and no more are kept; revoke some", mostTokens)
	}
	err = b.change(by, Entry{Action: "tokens.add", Target: name, After: state(t.show())}, func(tx *gorm.DB) error {
		return tx.Save(&row).Error // in the place of one that cannot be used
	}, func() {
		b.tokens[row.Hash] = t
		delete(b.unusable, "token "+name)
	})
	return bearer, err
}

func (b *Book) tokenNamed(name string) *token {
	for _, t := range b.tokens {
		if t.row.Name == name {
			return t
		}
	}
	return nil
}

// RevokeToken makes a token count no more.
func (b *Book) RevokeToken(by By, name string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	t := b.tokenNamed(name)
	if t == nil {
		return wrong("unknown", "there is no token %q", name)
	}
	return b.change(by, Entry{Action: "tokens.revoke", Target: name, Before: state(t.show())}, func(tx *gorm.DB) error {
		return tx.Where("name = ?", name).Delete(&tokenRow{}).Error
	}, func() { delete(b.tokens, t.row.Hash) })
}

// Tokens returns all, by name; those that ended too, until they are revoked.
func (b *Book) Tokens() []Token {
	b.mu.RLock()
	defer b.mu.RUnlock()
	out := make([]Token, 0, len(b.tokens))
	for _, t := range b.tokens {
		out = append(out, t.show())
	}
	slices.SortFunc(out, func(a, b Token) int { return strings.Compare(a.Name, b.Name) })
	return out
}
