package service

import (
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/folder"
	"nexocumula/internal/kinds"
)

func TestASecondServiceInOneFolderDoesNotStart(t *testing.T) {
	settings, err := config.Parse("s.yaml", []byte("data: d\nlisten: 127.0.0.1:0\ncentral:\n  accept: []\n"), kinds.All)
	require.NoError(t, err)
	settings.Data = t.TempDir()
	s, err := Open(settings, "test", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	_, err = Open(settings, "test", slog.New(slog.DiscardHandler))
	var inUse *folder.InUseError
	require.ErrorAs(t, err, &inUse)
	assert.Contains(t, inUse.By, "process ")
	s.Close()
	s, err = Open(settings, "test", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	s.Close()
}
