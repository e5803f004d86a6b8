package access

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"

	"gorm.io/gorm"

	"nexocumula/internal/secret"
	"nexocumula/internal/store/sqlite"
)

// HeadFile says outside of the database which entry was the newest, so that one taken off
// the end shows too.
const HeadFile = "audit.head"

type head struct {
	ID  uint64 `json:"id"`
	Sum string `json:"sum"`
}

func (b *Book) writeHead(h head) error {
	text, err := json.Marshal(h)
	if err == nil {
		err = secret.WriteFile(filepath.Join(b.dir, HeadFile), append(text, '\n'))
	}
	if err != nil {
		return fmt.Errorf("the newest entry could not be noted outside of the database: %w", err)
	}
	return nil
}

// Verified is the result of verifying the audit.
type Verified struct {
	Entries     int
	First, Last uint64
	Sum         string   // of the last
	Problems    []string // none: every entry is there and as it was written
}

const mostProblems = 20

// Verify looks through the whole chain.
func (b *Book) Verify() (out Verified, err error) {
	problem := func(format string, args ...any) {
		if len(out.Problems) < mostProblems {
			out.Problems = append(out.Problems, fmt.Sprintf(format, args...))
		}
	}
	noted, noteErr := b.readHead()
	var before auditRow
	var dropped struct {
		Until uint64 `json:"until"`
		Sum   string `json:"sum"`
	}
	var first auditRow
	rows, err := b.db.Model(&auditRow{}).Order("id").Rows()
	if err != nil {
		return out, err
	}
	defer rows.Close()
	seen := false
	for rows.Next() {
		var r auditRow
		if err := b.db.ScanRows(rows, &r); err != nil {
			return out, err
		}
		switch {
		case out.Entries == 0:
			first = r
		case r.ID != before.ID+1:
			problem("%d entries are missing between %d and %d", r.ID-before.ID-1, before.ID, r.ID)
		case r.Previous != before.Sum:
			problem("entry %d does not follow from entry %d as that is now", r.ID, before.ID)
		}
		if r.Sum != sumOf(r) {
			problem("entry %d is not as it was written", r.ID)
		}
		if r.Action == actionDrop {
			_ = json.Unmarshal([]byte(r.After), &dropped) // a wrong one shows as a sum that is wrong
		}
		if r.ID == noted.ID {
			if seen = true; r.Sum != noted.Sum {
				problem("entry %d is another than %s has noted", r.ID, HeadFile)
			}
		}
		out.Entries++
		before = r
	}
	if err := rows.Err(); err != nil {
		return out, err
	}
	out.First, out.Last, out.Sum = first.ID, before.ID, before.Sum
	if first.ID > 1 && (dropped.Until+1 != first.ID || dropped.Sum != first.Previous) {
		problem("the entries before %d are missing, and no entry says that they were dropped for their age", first.ID)
	}
	switch {
	case errors.Is(noteErr, fs.ErrNotExist) && out.Entries == 0:
	case noteErr != nil:
		problem("which entry was the newest is not known: %v", noteErr)
	case !seen:
		problem("entry %d, which %s has noted, is missing; the newest is %d", noted.ID, HeadFile, before.ID)
	}
	return out, nil
}

func (b *Book) readHead() (h head, err error) {
	text, err := os.ReadFile(filepath.Join(b.dir, HeadFile))
	if err == nil {
		err = json.Unmarshal(text, &h)
	}
	return h, err
}

// compareHead looks whether the file is the one that was there before. In an older copy what
// was revoked since counts again: its sessions end, people are told, and it is noted, lest
// what is written next hide it.
func (b *Book) compareHead() error {
	noted, err := b.readHead() // first, as the service may be running and write while another process looks
	var last, same auditRow
	if err := b.db.Raw("SELECT id, sum FROM audit ORDER BY id DESC LIMIT 1").Scan(&last).Error; err != nil {
		return err
	}
	switch {
	case errors.Is(err, fs.ErrNotExist) && last.ID == 0 &&
		len(b.accounts)+len(b.tokens)+len(b.gateways)+len(b.unusable) == 0:
		return nil
	case err == nil && noted.ID <= last.ID: // another process, or a crash, may have been between
		if err := b.db.Raw("SELECT id, sum FROM audit WHERE id = ?", noted.ID).Scan(&same).Error; err != nil {
			return err
		}
		if same.Sum == noted.Sum {
			return nil
		}
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.older = fmt.Errorf("%s is not the file that was there before, but an older copy or another: accounts, tokens and gateways that were taken away since may count again; look through them",
		File)
	emptied := last.ID == 0 && errors.Is(err, fs.ErrNotExist)
	if emptied {
		b.older = errors.New("the audit is empty, although there are accounts, tokens or gateways: somebody emptied it, or it was lost; look through them")
	}
	reason := b.older.Error()
	if err != nil && !emptied {
		reason = fmt.Sprintf("which entry was the newest is not known: %v", err)
	}
	for name := range b.accounts {
		b.forgetSessions(name)
	}
	return b.change(By{Who: "nexocumula", Kind: "machine"}, Entry{
		Action: "audit.older",
		Reason: reason,
		Before: state(noted),
		After:  state(head{last.ID, last.Sum}),
	}, func(tx *gorm.DB) error {
		return tx.Where("1 = 1").Delete(&sessionRow{}).Error
	}, nil)
}

const actionDrop = "audit.drop"

// dropOldAudit drops entries that are older than they are kept. An entry says so, with the
// sum of the last one that went, so that the chain begins with the first that stayed.
func (b *Book) dropOldAudit() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	var last auditRow
	err := b.db.Raw("SELECT id, sum FROM audit WHERE time < ? ORDER BY id DESC LIMIT 1",
		b.now().Add(-b.options.Audit).UnixNano()).Scan(&last).Error
	if err != nil || last.ID == 0 {
		return err
	}
	after := state(map[string]any{"until": last.ID, "sum": last.Sum})
	return b.change(By{Who: "nexocumula", Kind: "machine"}, Entry{Action: actionDrop, After: after}, func(tx *gorm.DB) error {
		return tx.Where("id <= ?", last.ID).Delete(&auditRow{}).Error
	}, nil)
}

// VerifyFile looks through the accounts and the audit in a folder, which a service may have open, and changes nothing.
// Without them there is nothing to look at.
func VerifyFile(ctx context.Context, dir string, log *slog.Logger) (out Verified, err error) {
	path := filepath.Join(dir, File)
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	db, err := sqlite.OpenReadOnly(path, log)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, sqlite.CloseReadOnly(db)) }()
	var pages []string
	if err := sqlite.VerifyPages(ctx, db, func(table, text string) { pages = append(pages, table+": "+text) }); err != nil {
		return out, err
	}
	if len(pages) > 0 {
		return Verified{Problems: pages}, nil
	}
	book := Book{dir: dir, db: db}
	return book.Verify()
}
