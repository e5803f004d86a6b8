package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"

	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/store/sqlite"
)

// Verification says what of a store was looked at.
type Verification struct {
	Series int
	Aside  int // rows that were set aside before
}

// Verify looks through the store in a file, which a service may have open, and changes nothing. Read is told how many bytes
// were read, and may wait.
func Verify(ctx context.Context, path string, log *slog.Logger, found func(engine.Fault), read func(ctx context.Context, bytes int) error) (Verification, error) {
	return verifyFile(ctx, path, log, engine.Verifier{Found: found, Read: read})
}

// VerifySums is a quicker Verify, for a copy: it finds what is not as it was written, and leaves to Verify whether all that
// was written agrees with itself.
func VerifySums(ctx context.Context, path string, log *slog.Logger, found func(engine.Fault), read func(ctx context.Context, bytes int) error) error {
	_, err := verifyFile(ctx, path, log, engine.Verifier{Found: found, Read: read, Sums: true})
	return err
}

func verifyFile(ctx context.Context, path string, log *slog.Logger, by engine.Verifier) (out Verification, err error) {
	db, err := sqlite.OpenReadOnly(path, log)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, sqlite.CloseReadOnly(db)) }()
	if err := sqlite.VerifyPages(ctx, db, func(table, text string) { by.Found(engine.Fault{Place: table, Text: text}) }); err != nil {
		return out, err
	}
	by.DB = db
	return verify(ctx, &by)
}

// VerifySlowly looks through the rows of an open store, and changes nothing. The pages of the file, which can only be
// looked at in one go, are left out.
func (s *Store) VerifySlowly(ctx context.Context, found func(engine.Fault), read func(ctx context.Context, bytes int) error) error {
	_, err := verify(ctx, &engine.Verifier{DB: s.file.Reader(), Found: found, Read: read})
	return err
}

// SetAsideRows returns the rows of series that could not be read and were set aside.
func (s *Store) SetAsideRows() ([]sqlite.Damaged, error) {
	chunks, err := s.file.SetAsideOf("chunks")
	if err != nil {
		return nil, err
	}
	patches, err := s.file.SetAsideOf("patches")
	return append(chunks, patches...), err
}

// Mend notes that what was set aside is here again.
func (s *Store) Mend(ids []uint64) error {
	err := s.file.Write(func(w sqlite.Writer) error { return sqlite.Mended(w.DB(), ids) })
	if err == nil {
		s.file.CountMended(len(ids))
	}
	return err
}

func verify(ctx context.Context, v *engine.Verifier) (out Verification, err error) {
	if err := v.Verify(ctx); err != nil {
		return out, err
	}
	known := func(id uint32) bool { return v.Known(id) != "" }
	err = outbox.Verify(ctx, v.DB, known, func(uplink, text string) {
		v.Found(engine.Fault{Place: "marks", Text: "uplink " + uplink + ": " + text})
	})
	if err != nil {
		return out, err
	}
	var aside int64
	if err := v.DB.WithContext(ctx).Model(&sqlite.Damaged{}).Where("place <> 'store'").Count(&aside).Error; err != nil {
		return out, fmt.Errorf("counting what was set aside: %w", err)
	}
	out.Series, out.Aside = v.Count(), int(aside)
	return out, nil
}
