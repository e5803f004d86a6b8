package folder

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAFolderIsUsedByOneAtATime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "data")
	first, err := Take(path)
	require.NoError(t, err)
	_, err = Take(path)
	var inUse *InUseError
	require.ErrorAs(t, err, &inUse)
	assert.Contains(t, err.Error(), "is in use by process ")
	first.Release()
	second, err := Take(path)
	require.NoError(t, err)
	second.Release()
}

func TestAFolderThatOthersCanWriteOrThatLeadsElsewhereIsRefused(t *testing.T) {
	path := t.TempDir()
	require.NoError(t, os.Chmod(path, 0o777))
	_, err := Take(path)
	assert.ErrorContains(t, err, "can write into the folder")
	require.NoError(t, os.Chmod(path, 0o750))
	other := filepath.Join(t.TempDir(), "elsewhere")
	require.NoError(t, os.WriteFile(other, nil, 0o600))
	for _, name := range []string{"nexocumula.db", LockFile} {
		link := filepath.Join(path, name)
		require.NoError(t, os.Symlink(other, link))
		_, err = Take(path)
		assert.ErrorContains(t, err, "is a symbolic link")
		require.NoError(t, os.Remove(link))
	}
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err = Take(file)
	assert.ErrorContains(t, err, "creating the folder")
}
