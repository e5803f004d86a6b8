package access

import (
	"errors"
	"fmt"
	"log/slog"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"nexocumula/internal/store"
)

// The tables. Times are nanoseconds since 1970; 0 is never. No column holds anything that
// lets somebody in: those named Hash are hashes, those named Sealed are encrypted.

type accountRow struct {
	Name      string `gorm:"primaryKey"`
	Role      string
	Selectors string // a line each; none: everything
	Hash      string // of the password; empty: none is set, or it logs in elsewhere
	Sealed    []byte // secret of its authenticator; nil: none
	Step      int64  // of the last code of the authenticator that was used; none counts twice
	Handle    []byte // by which authenticators know the account (WebAuthn, user handle)
	Provider  string // issuer and subject, of an account that logs in there
	Locked    bool
	Created   int64
	Checksum  uint32 `gorm:"not null;default:0"` // see sums.go
}

func (accountRow) TableName() string { return "accounts" }

type passkeyRow struct {
	ID         string `gorm:"primaryKey"` // of the credential, base64url
	Account    string `gorm:"index"`
	Name       string
	Credential []byte // public key and counters, JSON
	Created    int64
	Used       int64
	Checksum   uint32 `gorm:"not null;default:0"` // see sums.go
}

func (passkeyRow) TableName() string { return "passkeys" }

type sessionRow struct {
	Hash     string `gorm:"primaryKey"`
	Account  string `gorm:"index"`
	By       string `gorm:"column:way"` // console or command line
	Created  int64
	Used     int64  // written now and then only
	From     string `gorm:"column:address"`
	Agent    string // what the program says it is
	Checksum uint32 `gorm:"not null;default:0"` // see sums.go
}

func (sessionRow) TableName() string { return "sessions" }

type tokenRow struct {
	Name      string `gorm:"primaryKey"`
	Hash      string `gorm:"uniqueIndex"`
	Role      string
	Selectors string
	Creator   string
	Created   int64
	Ends      int64
	Used      int64  // written now and then only
	From      string `gorm:"column:address"`
	Checksum  uint32 `gorm:"not null;default:0"` // see sums.go
}

func (tokenRow) TableName() string { return "tokens" }

// codeRow is a code that can be used once.
type codeRow struct {
	Hash     string `gorm:"primaryKey"`
	Purpose  string // see codes.go
	Subject  string // name of the account or gateway
	Sites    string
	Ends     int64
	Checksum uint32 `gorm:"not null;default:0"` // see sums.go
}

func (codeRow) TableName() string { return "codes" }

type gatewayRow struct {
	Name     string `gorm:"primaryKey"`
	Sites    string // a line each
	Hash     string // of its credential
	Next     string // of the one that replaces it as soon as it is used
	Creator  string
	Enrolled int64
	Renewed  int64 // when the present credential was first used
	Revoked  int64
	Used     int64  // written now and then only
	From     string `gorm:"column:address"`
	Checksum uint32 `gorm:"not null;default:0"` // see sums.go
}

func (gatewayRow) TableName() string { return "gateways" }

type auditRow struct {
	ID       uint64 `gorm:"primaryKey;autoIncrement:false"`
	Time     int64  `gorm:"index"`
	Who      string
	Kind     string
	From     string `gorm:"column:address"`
	Action   string
	Target   string
	Outcome  string
	Reason   string
	Times    int
	Before   string `gorm:"column:state_before"` // JSON
	After    string `gorm:"column:state_after"`  // JSON
	Previous string // sum of the entry before
	Sum      string
}

func (auditRow) TableName() string { return "audit" }

var migrations = []*gormigrate.Migration{{
	ID: "0001-access",
	Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(&accountRow{}, &passkeyRow{}, &sessionRow{}, &tokenRow{}, &codeRow{}, &gatewayRow{}, &auditRow{})
	},
}, {
	ID: "0002-checksums",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&accountRow{}, &passkeyRow{}, &sessionRow{}, &tokenRow{}, &codeRow{}, &gatewayRow{}); err != nil {
			return err
		}
		return addSums(tx)
	},
}}

func openFile(path string, log *slog.Logger) (*gorm.DB, error) {
	db, err := store.Records(path, log)
	if err != nil {
		return nil, err
	}
	options := *gormigrate.DefaultOptions
	options.UseTransaction, options.ValidateUnknownMigrations = true, true
	if err := gormigrate.New(db, &options, migrations).Migrate(); err != nil {
		if pool, e := db.DB(); e == nil {
			pool.Close()
		}
		if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
			return nil, fmt.Errorf("%s was written by a newer version of nexocumula; use that version", path)
		}
		return nil, fmt.Errorf("the accounts in %s cannot be read: %w; restore the file from a copy, or move it away to begin without accounts", path, err)
	}
	return db, nil
}
