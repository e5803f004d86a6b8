package access

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/event"
)

// The outcomes of what was tried.
const (
	Done    = "done"
	Refused = "refused"
	Failed  = "failed"
)

// Entry is one of the audit.
type Entry struct {
	ID       uint64          `json:"id"`
	Time     time.Time       `json:"time"`
	Who      string          `json:"who"`
	Kind     string          `json:"kind"`
	From     string          `json:"from"`
	Action   string          `json:"action"`
	Target   string          `json:"target"`
	Outcome  string          `json:"outcome"`
	Reason   string          `json:"reason"`
	Times    int             `json:"times"`
	Before   json.RawMessage `json:"before"`
	After    json.RawMessage `json:"after"`
	Previous string          `json:"previous"`
	Sum      string          `json:"sum"`
}

// state returns an object's state for the audit, without secrets.
func state(what any) json.RawMessage {
	text, err := json.Marshal(what)
	if err != nil {
		return json.RawMessage(fmt.Sprintf("%q", err))
	}
	return text
}

const longestText = 4000 // bytes of what a caller wrote

// sumOf returns the sum that chains an entry to the one before: the SHA-256, in hexadecimal digits, of the
// JSON array of its fields in this order, times in RFC 3339, before and after as text.
func sumOf(r auditRow) string {
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	_ = e.Encode([]any{
		r.Previous, r.ID, timeOf(r.Time).Format(time.RFC3339Nano), r.Who, r.Kind, r.From, r.Action, r.Target,
		r.Outcome, r.Reason, r.Times, r.Before, r.After,
	})
	sum := sha256.Sum256(bytes.TrimRight(text.Bytes(), "\n"))
	return hex.EncodeToString(sum[:])
}

// add adds an entry to the chain.
func (b *Book) add(tx *gorm.DB, e Entry) (auditRow, error) {
	var last auditRow
	if err := tx.Raw("SELECT id, sum FROM audit ORDER BY id DESC LIMIT 1").Scan(&last).Error; err != nil {
		return last, err
	}
	clip := func(s string) string { return s[:min(len(s), longestText)] }
	row := auditRow{
		ID: last.ID + 1, Time: b.now().UnixNano(), Who: clip(e.Who), Kind: e.Kind, From: clip(e.From), Action: e.Action, Target: clip(e.Target), Outcome: e.Outcome,
		Reason: clip(e.Reason), Times: e.Times, Before: string(e.Before), After: string(e.After), Previous: last.Sum,
	}
	row.Sum = sumOf(row)
	if err := tx.Create(&row).Error; err != nil {
		return row, fmt.Errorf("writing the audit: %w", err)
	}
	return row, nil
}

// wrote makes a committed entry known outside the file, so that its removal shows. b.mu is held.
func (b *Book) wrote(r auditRow) {
	b.trouble = b.writeHead(head{r.ID, r.Sum})
	of := event.Audited
	if r.Outcome == Refused {
		of = event.Refused
	}
	of.To(b.options.Log, "id", r.ID, "who", r.Who, "from", r.From, "action", r.Action, "target", r.Target,
		"outcome", r.Outcome, "sum", r.Sum)
}

// Note writes an entry of something that is done elsewhere.
func (b *Book) Note(by By, e Entry) error {
	e.Who, e.Kind, e.From, e.Times = by.Who, by.Kind, by.From, max(1, e.Times)
	b.mu.Lock()
	defer b.mu.Unlock()
	var written auditRow
	err := b.db.Transaction(func(tx *gorm.DB) (err error) {
		written, err = b.add(tx, e)
		return err
	})
	if err != nil {
		b.trouble = fmt.Errorf("an entry could not be written: %w", err)
		event.AuditUnwritten.To(b.options.Log, "who", by.Who, "action", e.Action, "target", e.Target,
			"outcome", e.Outcome, "error", err)
		return err
	}
	b.wrote(written)
	return nil
}

// Asked says which entries are wanted; what is empty does not narrow.
type Asked struct {
	Who, Action, Outcome, From string
	Since, Until               time.Time
	Before                     uint64 // entries older than the one with this number
	Most                       int
}

// Audit is entries, the newest first.
func (b *Book) Audit(a Asked) ([]Entry, error) {
	q := b.db.Model(&auditRow{}).Order("id DESC").Limit(a.Most)
	for _, one := range []struct{ column, value string }{{"who", a.Who}, {"outcome", a.Outcome}, {"address", a.From}} {
		if one.value != "" {
			q = q.Where(map[string]any{one.column: one.value})
		}
	}
	if a.Action != "" { // accounts names accounts.add too
		q = q.Where("action = ? OR substr(action, 1, ?) = ?", a.Action, len(a.Action)+1, a.Action+".")
	}
	if a.Before > 0 {
		q = q.Where("id < ?", a.Before)
	}
	if !a.Since.IsZero() {
		q = q.Where("time >= ?", nanoseconds(a.Since))
	}
	if !a.Until.IsZero() {
		q = q.Where("time < ?", nanoseconds(a.Until))
	}
	var rows []auditRow
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Entry, len(rows))
	for i, r := range rows {
		out[i] = entryOf(r)
	}
	return out, nil
}

func entryOf(r auditRow) Entry {
	raw := func(text string) json.RawMessage {
		if !json.Valid([]byte(text)) {
			return json.RawMessage("null")
		}
		return json.RawMessage(text)
	}
	return Entry{
		ID: r.ID, Time: timeOf(r.Time), Who: r.Who, Kind: r.Kind, From: r.From, Action: r.Action, Target: r.Target, Outcome: r.Outcome, Reason: r.Reason,
		Times: r.Times, Before: raw(r.Before), After: raw(r.After), Previous: r.Previous, Sum: r.Sum,
	}
}
