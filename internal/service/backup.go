package service

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"nexocumula/client"
	"nexocumula/internal/backup"
	"nexocumula/internal/config"
	"nexocumula/internal/core/span"
	"nexocumula/internal/event"
)

// BackupOf says what a copy of a service is made of.
func BackupOf(settings config.Settings, version string, now time.Time, log *slog.Logger) backup.Wanted {
	site := "central"
	if settings.Gateway != nil {
		site = settings.Gateway.Site
	}
	return backup.Wanted{
		Data: settings.Data, Store: StoreFile, Configuration: settings.Path, Site: site, Version: version, Taken: now, Log: log,
	}
}

// backups makes those that the configuration wants.
type backups struct {
	settings config.Settings
	version  string
	log      *slog.Logger
	began    time.Time

	mu     sync.Mutex
	good   time.Time // when the newest that is whole was taken
	faults int       // of the store, that it found
	failed error     // the last attempt
}

func newBackups(settings config.Settings, version string, log *slog.Logger) *backups {
	return &backups{settings: settings, version: version, log: log, began: time.Now()}
}

// backupLook is how often it is looked whether another is due, and a failed one tried again.
const backupLook = time.Minute

func (b *backups) run(ctx context.Context) error {
	want := b.settings.Backup
	if want == nil {
		return nil
	}
	if all, _, err := backup.List(want.Folder); err == nil && len(all) > 0 {
		b.mu.Lock()
		b.good = all[len(all)-1].Taken
		b.mu.Unlock()
	}
	tick := time.NewTicker(backupLook)
	defer tick.Stop()
	for {
		if now := time.Now(); b.due(now) {
			b.make(ctx, now)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

func (b *backups) due(now time.Time) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return now.Sub(b.good) >= b.settings.Backup.Every
}

// make makes one. Only a folder that has one counts: a disk that is not there must not be mistaken for an empty folder,
// which would fill the disk that the service is on.
func (b *backups) make(ctx context.Context, now time.Time) {
	want := b.settings.Backup
	all, _, err := backup.List(want.Folder)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("%s has no backup yet", want.Folder)
	}
	if err != nil {
		err = fmt.Errorf("%w; is its disk there? The first is made by hand: nexocumula backup --config %s %s", err, b.settings.Path, want.Folder)
	}
	var made backup.Made
	if err == nil {
		wanted := BackupOf(b.settings, b.version, now, b.log)
		wanted.Keep, wanted.For = want.Keep, want.For
		limit := rate.NewLimiter(rate.Limit(want.Rate*1e6), want.Rate*1e6)
		wanted.Read = func(ctx context.Context, bytes int) error { return limit.WaitN(ctx, min(bytes, limit.Burst())) }
		made, err = backup.IntoFolder(ctx, want.Folder, wanted)
	}
	if ctx.Err() != nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.failed = err; err != nil {
		event.BackupFailed.To(b.log, "folder", want.Folder, "error", err)
		return
	}
	b.good, b.faults = made.Taken, made.Faults
	event.BackupMade.To(b.log, "folder", want.Folder, "taken", made.Taken.Format(time.RFC3339), "bytes", made.Bytes(), "written", made.Written, "faults", made.Faults)
}

// state says how they stand, and what is wrong with them; wanted is false when the configuration wants none.
func (b *backups) state() (out client.BackupHealth, trouble string, wanted bool) {
	want := b.settings.Backup
	if want == nil {
		return out, "", false
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	out.Folder = want.Folder
	age := time.Since(b.began)
	if !b.good.IsZero() {
		at := b.good.UTC()
		out.GoodAt, age = &at, time.Since(at)
	}
	if b.failed != nil {
		out.Error = b.failed.Error()
	}
	switch {
	case b.failed != nil:
		trouble = out.Error
	case age > 2*want.Every:
		trouble = fmt.Sprintf("the last good one is %s old, and one is wanted every %s", span.Format(age.Round(time.Minute)), span.Format(want.Every))
	case b.faults > 0:
		trouble = fmt.Sprintf("the store had %d faults when it was copied; nexocumula verify lists them", b.faults)
	}
	return out, trouble, true
}
