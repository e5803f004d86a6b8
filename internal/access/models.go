package access

import (
	"errors"
	"fmt"
	"log/slog"

	"gorm.io/gorm"

	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/tables"
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

// steps lead from an empty file to today's tables.
var steps = []tables.Step{
	{ID: "0001-access", Changes: []tables.Change{
		tables.Make(`CREATE TABLE accounts (name text, role text, selectors text, hash text, sealed blob, step integer, handle blob, provider text, locked numeric, created integer, PRIMARY KEY (name))`),
		tables.Make(`CREATE TABLE audit (id integer, time integer, who text, kind text, address text, action text, target text, outcome text, reason text, times integer, state_before text, state_after text, previous text, sum text, PRIMARY KEY (id))`),
		tables.Make(`CREATE TABLE codes (hash text, purpose text, subject text, sites text, ends integer, PRIMARY KEY (hash))`),
		tables.Make(`CREATE TABLE gateways (name text, sites text, hash text, next text, creator text, enrolled integer, renewed integer, revoked integer, used integer, address text, PRIMARY KEY (name))`),
		tables.Make(`CREATE TABLE passkeys (id text, account text, name text, credential blob, created integer, used integer, PRIMARY KEY (id))`),
		tables.Make(`CREATE TABLE sessions (hash text, account text, way text, created integer, used integer, address text, agent text, PRIMARY KEY (hash))`),
		tables.Make(`CREATE TABLE tokens (name text, hash text, role text, selectors text, creator text, created integer, ends integer, used integer, address text, PRIMARY KEY (name))`),
		tables.Make(`CREATE INDEX idx_audit_time ON audit(time)`),
		tables.Make(`CREATE INDEX idx_passkeys_account ON passkeys(account)`),
		tables.Make(`CREATE INDEX idx_sessions_account ON sessions(account)`),
		tables.Make(`CREATE UNIQUE INDEX idx_tokens_hash ON tokens(hash)`),
	}},
	{ID: "0002-checksums", Changes: []tables.Change{
		tables.Add("accounts", "checksum", "integer NOT NULL DEFAULT 0"),
		tables.Add("passkeys", "checksum", "integer NOT NULL DEFAULT 0"),
		tables.Add("sessions", "checksum", "integer NOT NULL DEFAULT 0"),
		tables.Add("tokens", "checksum", "integer NOT NULL DEFAULT 0"),
		tables.Add("codes", "checksum", "integer NOT NULL DEFAULT 0"),
		tables.Add("gateways", "checksum", "integer NOT NULL DEFAULT 0"),
		addSums,
	}},
}

func openFile(path string, log *slog.Logger) (*gorm.DB, error) {
	db, err := sqlite.Records(path, log)
	if err != nil {
		return nil, err
	}
	if err := tables.Migrate(db, steps); err != nil {
		if pool, e := db.DB(); e == nil {
			pool.Close()
		}
		if errors.Is(err, tables.ErrNewer) {
			return nil, fmt.Errorf("%s was written by a newer version of nexocumula; use that version", path)
		}
		return nil, fmt.Errorf("the accounts in %s cannot be read: %w; restore the file from a copy, or move it away to begin without accounts",
			path, err)
	}
	return db, nil
}
