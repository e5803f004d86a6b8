package service

import (
	"log/slog"
	"time"

	"nexocumula/internal/backup"
	"nexocumula/internal/config"
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
