package secret

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestASecretFileIsForItsOwnerAndWhole(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "a", "b", "secret")
	require.NoError(t, WriteFile(file, []byte("one")))
	require.NoError(t, WriteFile(file, []byte("two")))
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "two", string(text))
	for path, mode := range map[string]os.FileMode{file: 0o600, filepath.Dir(file): 0o700} {
		about, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, mode, about.Mode().Perm(), path)
	}
	left, err := os.ReadDir(filepath.Dir(file))
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing is left over")
	require.NoError(t, OnlyOwner(file))
	require.NoError(t, os.Chmod(file, 0o604))
	assert.ErrorContains(t, OnlyOwner(file), "chmod 640")

	taken := filepath.Join(dir, "taken")
	require.NoError(t, os.MkdirAll(filepath.Join(taken, "full"), 0o700))
	assert.Error(t, WriteFile(taken, []byte("three")), "a folder stands there")
	left, err = os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2, "and nothing is left over")
}

func TestHashesSayHowTheyWereMade(t *testing.T) {
	for _, cost := range []Cost{OfDevices, OfPeople, {1, 8}} {
		hash := HashPassword([]byte("salmon run"), cost)
		assert.True(t, strings.HasPrefix(hash, "$argon2id$v=19$m="), hash)
		assert.True(t, Matches(hash, []byte("salmon run")))
		assert.False(t, Matches(hash, []byte("salmon runs")))
		assert.False(t, Matches(hash, nil))
		assert.NotEqual(t, hash, HashPassword([]byte("salmon run"), cost), "each has its own salt")
		assert.NoError(t, CheckHash(hash))
	}
	for _, bad := range []string{
		"", "plain", "$argon2id$v=19$m=1,t=1,p=1$AAAA$AAAA",
		"$argon2id$v=19$m=99999999,t=1,p=1$AAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAA",
		"$argon2i$v=19$m=8,t=1,p=1$AAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAA",
	} {
		assert.Error(t, CheckHash(bad), bad)
		assert.False(t, Matches(bad, []byte("")), bad)
	}
}
