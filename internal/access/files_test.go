package access

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/rounds"
)

func TestAStolenFileLetsNobodyIn(t *testing.T) {
	b, clock := fresh(t)
	with(t, b, "ranger", Viewer)
	k, err := b.BeginAuthenticator("ranger", "Nexocumula")
	require.NoError(t, err)
	now, err := totp.GenerateCode(k.Secret, clock.now())
	require.NoError(t, err)
	s, err := b.Login(Attempt{Account: "ranger", Password: words, From: "10.0.0.2", By: "console"})
	require.NoError(t, err)
	require.NoError(t, b.UseAuthenticator(person, "ranger", k.Secret, now))
	bearer, err := b.AddToken(person, "report", Rights{Role: Viewer}, time.Time{})
	require.NoError(t, err)
	code, _, err := b.Enrol(person, "long-mere", []string{"long-mere"})
	require.NoError(t, err)
	credential, err := b.Join("10.0.0.9", "long-mere", code)
	require.NoError(t, err)
	open, err := b.AdministratorCode(person)
	require.NoError(t, err)
	require.NoError(t, b.Close())
	secrets := []string{words, k.Secret, s.Bearer, bearer, code, plainCode(code), credential, open, plainCode(open)}
	files, err := filepath.Glob(filepath.Join(b.dir, "*"))
	require.NoError(t, err)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		about, err := os.Stat(file)
		require.NoError(t, err)
		assert.Zero(t, about.Mode().Perm()&0o077, "%s is for its owner only", file)
		for _, secret := range secrets {
			assert.False(t, bytes.Contains(text, []byte(secret)), "%s holds %q", file, secret)
			assert.False(t, bytes.Contains(text, []byte(strings.TrimPrefix(secret, "nxt_"))), "%s holds %q", file,
				secret)
		}
	}
}

func TestTheKeyMayBeHandedOver(t *testing.T) {
	handed := t.TempDir()
	t.Setenv("CREDENTIALS_DIRECTORY", handed)
	require.NoError(t,
		os.WriteFile(filepath.Join(handed, KeyCredential), []byte(strings.Repeat("a7", keyBytes)+"\n"), 0o400))
	b, _ := fresh(t)
	assert.NoFileExists(t, filepath.Join(b.dir, keyFile))
	sealed, err := b.key.seal([]byte("secret"), "ranger")
	require.NoError(t, err)
	text, err := b.key.open(sealed, "ranger")
	require.NoError(t, err)
	assert.Equal(t, "secret", string(text))
	_, err = b.key.open(sealed, "warden")
	assert.Error(t, err, "what was put under another name is refused")
	_, err = b.key.open(sealed[:5], "ranger")
	assert.ErrorContains(t, err, "cut short")
	for _, bad := range []string{"", "a7", strings.Repeat("zz", keyBytes)} {
		require.NoError(t, os.WriteFile(filepath.Join(handed, KeyCredential), []byte(bad), 0o600))
		without, err := Open(t.TempDir(), b.options)
		require.NoError(t, err, "what is collected does not wait for it")
		assert.ErrorContains(t, without.Trouble(), "64 hexadecimal digits", bad)
		_, err = without.key.seal([]byte("x"), "ranger")
		assert.ErrorContains(t, err, "see /api/v1/health")
		require.NoError(t, without.Close())
	}
}

func TestWhatCannotBeReadIsLeftOut(t *testing.T) {
	rounds.Alone(t)
	b, clock := fresh(t)
	for says, sql := range map[string]string{
		"account ranger":        "UPDATE accounts SET role = 'poet' WHERE name = 'ranger'",
		"ranger does not match": "UPDATE accounts SET selectors = '#/x' WHERE name = 'ranger'",
		"token report":          "UPDATE tokens SET role = 'poet'",
	} {
		copied := openIn(t, t.TempDir(), clock)
		with(t, copied, "ranger", Viewer, "stony-beck/#")
		with(t, copied, "warden", Administrator)
		_, err := copied.AddToken(person, "report", Rights{Role: Viewer}, time.Time{})
		require.NoError(t, err)
		require.NoError(t, copied.db.Exec(sql).Error)
		require.NoError(t, copied.Close())
		copied = openIn(t, copied.dir, clock)
		assert.ErrorContains(t, copied.Trouble(), says)
		assert.NoError(t, try(copied, "warden", words, "10.0.0.1"), "the others go on")
		assert.Equal(t, says == "token report", try(copied, "ranger", words, "10.0.0.1") == nil)
	}
	require.NoError(t, b.db.Exec("INSERT INTO migrations (id) VALUES ('9999-later')").Error)
	require.NoError(t, b.Close())
	_, err := Open(b.dir, b.options)
	assert.ErrorContains(t, err, "newer version")
}

func TestADamagedFileIsSetAside(t *testing.T) {
	rounds.Alone(t)
	for name, spoil := range map[string]func([]byte) []byte{
		"flipped":   func(text []byte) []byte { copy(text[100:], bytes.Repeat([]byte{0xa5}, 4000)); return text },
		"cut short": func(text []byte) []byte { return text[:len(text)/2] },
		"no header": func(text []byte) []byte { return bytes.Repeat([]byte("no database "), 1000) },
	} {
		t.Run(name, func(t *testing.T) {
			b, clock := fresh(t)
			with(t, b, "ranger", Viewer)
			require.NoError(t, b.Close())
			file := filepath.Join(b.dir, File)
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, spoil(text), 0o600))
			b = openIn(t, b.dir, clock)
			assert.ErrorContains(t, b.Trouble(), "is not the file that was there before")
			assert.False(t, b.Governed())
			assert.Error(t, try(b, "ranger", words, "10.0.0.1"))
			aside, err := filepath.Glob(file + ".damaged-*")
			require.NoError(t, err)
			assert.NotEmpty(t, aside, "it is kept as it was found")
			code, err := b.AdministratorCode(person)
			require.NoError(t, err)
			_, err = b.Redeem("10.0.0.1", code, "warden", words)
			assert.NoError(t, err, "and can be begun anew")
		})
	}
}
