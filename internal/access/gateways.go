package access

import (
	"crypto/rand"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"
)

// enrolled is a gateway that has a credential of its own, or had one.
type enrolled struct {
	row gatewayRow
	use use
}

// EnrolledGateway describes a gateway without its secrets.
type EnrolledGateway struct {
	Name     string    `json:"name"`
	Sites    []string  `json:"sites"`
	Creator  string    `json:"creator"`
	Enrolled time.Time `json:"enrolled"`
	Renewed  time.Time `json:"renewed"` // when its present credential was first used
	Revoked  time.Time `json:"revoked"`
	Used     time.Time `json:"-"`
	From     string    `json:"-"`
}

func (g *enrolled) show() EnrolledGateway {
	used, from := g.use.last()
	return EnrolledGateway{
		Name: g.row.Name, Sites: strings.Split(g.row.Sites, "\n"), Creator: g.row.Creator, Enrolled: timeOf(g.row.Enrolled),
		Renewed: timeOf(g.row.Renewed), Revoked: timeOf(g.row.Revoked), Used: timeOf(used), From: from,
	}
}

func (b *Book) loadGateways() error {
	var rows []gatewayRow
	if err := b.db.Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		if err := checkSum("gateway "+row.Name, row.Checksum, &row); err != nil {
			b.unreadable("gateway "+row.Name, err)
			continue
		}
		b.gateways[row.Name] = &enrolled{row: row, use: use{at: row.Used, from: row.From}}
	}
	return nil
}

// Enrol makes a code with which a gateway gets a credential of its own. One that has a
// credential keeps it until the code is used.
func (b *Book) Enrol(by By, gateway string, sites []string) (code string, ends time.Time, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	ends = b.now().Add(gatewayCodeLasts)
	err = b.change(by, Entry{
		Action: "gateways.enrol",
		Target: gateway,
		After:  state(map[string]any{"sites": sites}),
	}, func(tx *gorm.DB) error {
		code, err = b.newCode(tx, codeRow{
			Purpose: forGateway,
			Subject: gateway,
			Sites:   strings.Join(sites, "\n"),
		}, gatewayCodeLasts)
		return err
	}, nil)
	return code, ends.UTC(), err
}

// Join uses a code: the gateway gets a credential, and what it had before counts no more.
func (b *Book) Join(from, gateway, code string) (bearer string, err error) {
	if wait := b.delays.left("", from, false); wait > 0 {
		return "", tooSoon(wait)
	}
	row, err := b.findCode(code, forGateway)
	if err == nil && row.Subject != gateway {
		err = wrong("code",
			"the code is for another gateway than %q, which is the site that this one's configuration names", gateway)
	}
	if err != nil {
		b.failed(from, "gateways.join", gateway, err)
		return "", err
	}
	bearer = gatewayPrefix + rand.Text()
	now := b.now().UnixNano()
	b.mu.Lock()
	defer b.mu.Unlock()
	next := &enrolled{
		row: gatewayRow{
			Name:     gateway,
			Sites:    row.Sites,
			Hash:     hashOf(bearer),
			Creator:  "code",
			Enrolled: now,
			Renewed:  now,
			Used:     now,
			From:     from,
		},
		use: use{at: now, from: from},
	}
	err = b.change(By{gateway, "code", from}, Entry{
		Action: "gateways.join",
		Target: gateway,
		After:  state(next.show()),
	}, func(tx *gorm.DB) error {
		if err := useCode(tx, row); err != nil {
			return err
		}
		return tx.Save(&next.row).Error
	}, func() { b.gateways[gateway] = next })
	return bearer, err
}

// Credential holds the facts that a gateway's credential proves.
type Credential struct {
	Known   bool // such a gateway was enrolled
	Good    bool
	Revoked bool // it was good
	Sites   []string
	Why     string // it is not good
}

// CheckCredential checks what a gateway shows. The first use of a renewed credential ends the
// one before.
func (b *Book) CheckCredential(gateway, bearer, from string) (Credential, error) {
	hash := hashOf(bearer)
	b.mu.RLock()
	g := b.gateways[gateway]
	if g == nil {
		b.mu.RUnlock()
		return Credential{}, nil
	}
	row := g.row
	b.mu.RUnlock()
	out := Credential{Known: true, Sites: strings.Split(row.Sites, "\n")}
	switch {
	case row.Revoked != 0 && row.Hash == hash:
		out.Revoked = true
		out.Why = "it was revoked on " + timeOf(row.Revoked).Format(time.RFC3339) + "; what is not sent yet stays at the gateway until it is enrolled anew"
		return out, nil
	case row.Revoked != 0:
	case row.Hash == hash:
		g.use.touch(b.now(), from)
		out.Good = true
		return out, nil
	case row.Next != "" && row.Next == hash:
		err := b.renewed(gateway, hash, from)
		out.Good = err == nil
		return out, err
	}
	out.Why = "its credential is not the one that counts; if the gateway was restored from a copy, or another one joined in its place, enrol it anew"
	return out, nil
}

// AnyCredential reports whether some gateway may have the bearer, so that nobody else makes
// the service read what he sends.
func (b *Book) AnyCredential(bearer string) bool {
	if !strings.HasPrefix(bearer, gatewayPrefix) {
		return false
	}
	hash := hashOf(bearer)
	b.mu.RLock()
	defer b.mu.RUnlock()
	for _, g := range b.gateways {
		if g.row.Hash == hash || g.row.Next == hash {
			return true
		}
	}
	return false
}

// renewed makes the next credential of a gateway the one that counts.
func (b *Book) renewed(gateway, hash, from string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	g := b.gateways[gateway]
	if g == nil || g.row.Next != hash {
		return nil // another request was first
	}
	row := g.row
	row.Hash, row.Next, row.Renewed, row.Used, row.From = hash, "", b.now().UnixNano(), b.now().UnixNano(), from
	return b.change(By{gateway, "gateway", from}, Entry{Action: "gateways.renew", Target: gateway}, func(tx *gorm.DB) error {
		return tx.Save(&row).Error
	}, func() { b.gateways[gateway] = &enrolled{row: row, use: use{at: row.Used, from: from}} })
}

// Renew makes the credential that follows a gateway's present one. Both count until the new
// one is used; where the answer is lost, the gateway asks again with the one it has.
func (b *Book) Renew(gateway string) (bearer string, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	g := b.gateways[gateway]
	if g == nil {
		return "", wrong("unknown", "no gateway %q is enrolled", gateway)
	}
	bearer = gatewayPrefix + rand.Text()
	row := g.row
	row.Next = hashOf(bearer)
	if err := b.db.Save(&row).Error; err != nil {
		return "", err
	}
	g.row = row
	return bearer, nil
}

// RevokeGateway makes a gateway's credential count no more.
func (b *Book) RevokeGateway(by By, gateway string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	g := b.gateways[gateway]
	var waiting int64
	if err := b.db.Model(&codeRow{}).Where("purpose = ? AND subject = ?", forGateway, gateway).Count(&waiting).Error; err != nil {
		return err
	}
	if g == nil && waiting == 0 || g != nil && g.row.Revoked != 0 && waiting == 0 {
		return wrong("unknown", "no gateway %q is enrolled", gateway)
	}
	e := Entry{Action: "gateways.revoke", Target: gateway}
	var next *enrolled
	if g != nil {
		row := g.row
		row.Next, row.Revoked = "", b.now().UnixNano() // the hash stays, so that the gateway can be told why
		at, from := g.use.last()
		next = &enrolled{row: row, use: use{at: at, from: from}}
		e.Before, e.After = state(g.show()), state(next.show())
	}
	return b.change(by, e, func(tx *gorm.DB) error {
		if err := tx.Where("purpose = ? AND subject = ?", forGateway, gateway).Delete(&codeRow{}).Error; err != nil ||
			next == nil {
			return err
		}
		return tx.Save(&next.row).Error
	}, func() {
		if next != nil {
			b.gateways[gateway] = next
		}
	})
}

// Gateways returns the enrolled gateways by name.
func (b *Book) Gateways() []EnrolledGateway {
	b.mu.RLock()
	defer b.mu.RUnlock()
	out := make([]EnrolledGateway, 0, len(b.gateways))
	for _, g := range b.gateways {
		out = append(out, g.show())
	}
	slices.SortFunc(out, func(a, b EnrolledGateway) int { return strings.Compare(a.Name, b.Name) })
	return out
}
