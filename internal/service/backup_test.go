package service

import (
	"bytes"
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/backup"
	"nexocumula/internal/config"
	"nexocumula/internal/kinds"
)

func TestBackupsAreMadeByThemselvesAndOldOnesGo(t *testing.T) {
	dir := t.TempDir()
	folder := filepath.Join(dir, "usb")
	settings, err := config.Parse("s.yaml", []byte(strings.ReplaceAll("data: DIR/data\nlisten: 127.0.0.1:0\nbackup: { folder: DIR/usb, every: 1h, keep: 2 }\ncentral: { accept: [] }\n", "DIR", dir)), kinds.All)
	require.NoError(t, err)
	var log bytes.Buffer
	s, err := Open(settings, "v1.2.3", slog.New(slog.NewTextHandler(&log, nil)))
	require.NoError(t, err)
	defer s.Close()
	b, now := s.backups, time.Now().Add(-5*time.Hour)
	require.True(t, b.due(now))
	b.make(t.Context(), now)
	_, trouble, wanted := b.state()
	assert.True(t, wanted)
	assert.Contains(t, trouble, "is its disk there? The first is made by hand: nexocumula backup --config ")
	assert.NoDirExists(t, folder, "a disk that is not there is not mistaken for an empty folder")
	assert.Contains(t, log.String(), "event=backup.failed")

	_, err = backup.IntoFolder(t.Context(), folder, BackupOf(settings, "v1.2.3", now, b.log))
	require.NoError(t, err)
	for i := range 3 {
		at := now.Add(time.Duration(i+1) * time.Hour)
		require.True(t, b.due(at))
		b.make(t.Context(), at)
		require.False(t, b.due(at.Add(59*time.Minute)))
	}
	all, bad, err := backup.List(folder)
	require.NoError(t, err)
	assert.Empty(t, bad)
	require.Len(t, all, 2, "the newest stay")
	for _, m := range all {
		assert.NoError(t, backup.Check(t.Context(), folder, m), "with all their blocks")
		assert.Equal(t, "central", m.Site)
	}
	state, trouble, _ := b.state()
	assert.Equal(t, all[1].Taken, *state.GoodAt)
	assert.Contains(t, trouble, "the last good one is 2h old, and one is wanted every 1h")
	b.make(t.Context(), time.Now())
	_, trouble, _ = b.state()
	assert.Empty(t, trouble)

	// What is wrong with the folder is a trouble until it is made good.
	require.NoError(t, os.Rename(folder, folder+"-away"))
	b.make(t.Context(), time.Now().Add(time.Hour))
	state, trouble, _ = b.state()
	assert.Equal(t, state.Error, trouble)
	assert.Contains(t, trouble, "is no folder of backups")
	require.NoError(t, os.Rename(folder+"-away", folder))
	b.make(t.Context(), time.Now().Add(time.Hour))
	_, trouble, _ = b.state()
	assert.Empty(t, trouble)

	stopped, stop := context.WithCancel(t.Context())
	stop()
	assert.NoError(t, b.run(stopped), "it ends with the service")
}
