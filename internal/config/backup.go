package config

import (
	"strings"
	"time"

	"filippo.io/age"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/folder"
)

type backupFile struct {
	Folder     string   `yaml:"folder"`
	Every      string   `yaml:"every"`
	Keep       int      `yaml:"keep"`
	Rate       int      `yaml:"rate"`
	Recipients []string `yaml:"recipients"`
}

// Backup says that a service copies what it keeps by itself.
type Backup struct {
	Folder string
	Every  time.Duration
	Keep   int             // copies
	Rate   int             // megabytes a second, at most
	For    []age.Recipient // for whom secrets are encrypted; without any they are not copied
}

const (
	backupEvery    = 24 * time.Hour
	backupKeep     = 30
	mostBackups    = 10_000
	backupRate     = 10
	mostBackupRate = 10_000
)

func (raw *backupFile) check(at shape.Place, data string) *Backup {
	if raw == nil {
		return nil
	}
	out := Backup{
		Folder: raw.Folder,
		Every:  at.Key("every").Within(raw.Every, backupEvery, time.Minute, 366*24*time.Hour),
		Keep:   at.Key("keep").Count(raw.Keep, backupKeep, 1, mostBackups, "backups"),
		Rate:   at.Key("rate").Count(raw.Rate, backupRate, 1, mostBackupRate, "megabytes a second"),
	}
	switch {
	case raw.Folder == "":
		at.Key("folder").Wrong("say into which folder, such as /mnt/usb/long-mere; better on another disk")
	case folder.Inside(raw.Folder, data):
		at.Key("folder").Wrong("%s is inside of data: what takes that takes its backups as well; use another folder, better on another disk",
			raw.Folder)
	}
	for i, key := range raw.Recipients {
		found, err := age.ParseRecipients(strings.NewReader(key))
		if err != nil {
			at.Key("recipients").Item(i).Wrong("%q is no public key of age: %v", key, err)
		}
		out.For = append(out.For, found...)
	}
	return &out
}
