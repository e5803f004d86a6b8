package certs

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAnOwnCertificateStaysTheSame(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	first, err := Own(dir, []string{"pump-house.example", "10.1.2.3"})
	require.NoError(t, err)
	again, err := Own(dir, nil)
	require.NoError(t, err)
	assert.Equal(t, first.Fingerprint(), again.Fingerprint(), "others know it by its fingerprint")
	other, err := Own(t.TempDir(), nil)
	require.NoError(t, err)
	assert.NotEqual(t, first.Fingerprint(), other.Fingerprint())
	_, pair := first.Parts()
	for _, name := range []string{"pump-house.example", "localhost", "127.0.0.1", "::1", "10.1.2.3"} {
		assert.NoError(t, pair.Leaf.VerifyHostname(name), name)
	}
	assert.Error(t, pair.Leaf.VerifyHostname("elsewhere.example"))
	assert.Equal(t, 9999, pair.Leaf.NotAfter.Year(), "a board whose clock is not set makes one too")
	about, err := os.Stat(filepath.Join(dir, OwnKey))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), about.Mode().Perm())

	require.NoError(t, os.Remove(filepath.Join(dir, OwnCert))) // as when it was cut off before the second file
	anew, err := Own(dir, nil)
	require.NoError(t, err)
	assert.NotEqual(t, first.Fingerprint(), anew.Fingerprint())
	require.NoError(t, os.WriteFile(filepath.Join(dir, OwnKey), []byte("garbage"), 0o600))
	_, err = Own(dir, nil)
	assert.ErrorContains(t, err, "and its key")
	require.NoError(t, os.Chmod(filepath.Join(dir, OwnKey), 0o644))
	_, err = Own(dir, nil)
	assert.ErrorContains(t, err, "chmod")
}

func TestAPinnedClientSpeaksToOneOnly(t *testing.T) {
	serve := func() (address, fingerprint string) {
		own, err := Own(t.TempDir(), nil)
		require.NoError(t, err)
		server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Empty(t, r.Header.Get("Authorization"), "nothing was to come here")
		}))
		server.TLS = own.Server(false)
		server.Config.ErrorLog = nil
		server.StartTLS()
		t.Cleanup(server.Close)
		conn, err := tls.Dial("tcp", server.Listener.Addr().String(), &tls.Config{InsecureSkipVerify: true})
		require.NoError(t, err)
		defer conn.Close()
		_, port, err := net.SplitHostPort(server.Listener.Addr().String())
		require.NoError(t, err)
		return "https://127.0.0.1:" + port, Fingerprint(conn.ConnectionState().PeerCertificates[0].Raw)
	}
	mine, fingerprint := serve()
	other, _ := serve()
	resp, err := Pinned(fingerprint).Get(mine)
	require.NoError(t, err)
	resp.Body.Close()
	req, err := http.NewRequest(http.MethodGet, other, nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer secret")
	_, err = Pinned(fingerprint).Do(req)
	var another *Another
	require.ErrorAs(t, err, &another)
	assert.Equal(t, fingerprint, another.Wanted)
	assert.ErrorContains(t, err, "nothing was sent")
}

func TestFingerprintsAreReadAsTheyAreShown(t *testing.T) {
	plain := strings.Repeat("0fa1", 16)
	want := strings.TrimSuffix(strings.Repeat("0F:A1:", 16), ":")
	for _, text := range []string{plain, strings.ToUpper(plain), want, strings.ToLower(want), " " + want + "\n"} {
		got, err := ParseFingerprint(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "0f", plain + "00", strings.Repeat("zz", 32), "ca.pem"} {
		_, err := ParseFingerprint(text)
		assert.ErrorContains(t, err, "32 pairs", text)
	}
}

func TestACertificateThatEndsSoonIsTold(t *testing.T) {
	dir := t.TempDir()
	holder, err := Own(dir, nil)
	require.NoError(t, err)
	assert.NoError(t, holder.Expiring(time.Now()), "our own has no end")
	ends := time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)
	assert.NoError(t, holder.Expiring(ends.Add(-31*24*time.Hour)))
	assert.ErrorContains(t, holder.Expiring(ends.Add(-10*24*time.Hour)), "ends at 9999-12-31T23:59:59Z, in 10 days")
	assert.ErrorContains(t, holder.Expiring(ends.Add(time.Hour)), "ended at 9999-12-31T23:59:59Z")
}

// Each byte of the files is damaged in turn. Either the certificate and its key are still the same, or there is an error.
func TestADamagedOwnCertificateIsNoticed(t *testing.T) {
	dir := t.TempDir()
	first, err := Own(dir, nil)
	require.NoError(t, err)
	_, good := first.Parts()
	r := rand.New(rand.NewPCG(29, 7))
	told := 0
	for _, name := range []string{OwnCert, OwnKey} {
		file := filepath.Join(dir, name)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for i := range text {
			bad := bytes.Clone(text)
			bad[i] ^= 1 << r.IntN(8)
			require.NoError(t, os.WriteFile(file, bad, 0o600))
			now, err := Own(dir, nil)
			if err != nil {
				require.ErrorContains(t, err, name[:3])
				told++
				continue
			}
			require.Equal(t, first.Fingerprint(), now.Fingerprint(), "%s, byte %d", name, i)
			_, pair := now.Parts()
			require.Equal(t, good.PrivateKey, pair.PrivateKey, "%s, byte %d", name, i)
		}
		require.NoError(t, os.WriteFile(file, text, 0o600))
	}
	assert.Greater(t, told, 500)
}

// A client goes on with its session when it connects again, but not once other authorities count.
func TestASessionIsResumed(t *testing.T) {
	dir := t.TempDir()
	own, err := Own(dir, nil)
	require.NoError(t, err)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, r.TLS.DidResume)
	}))
	server.TLS = own.Server(false)
	server.StartTLS()
	defer server.Close()
	trusted := filepath.Join(t.TempDir(), "ca.pem")
	text, err := os.ReadFile(filepath.Join(dir, OwnCert))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(trusted, text, 0o600))
	holder, err := Open(Files{CA: trusted})
	require.NoError(t, err)
	by := holder.HTTP("localhost")
	ask := func() string {
		answer, err := by.Get(server.URL)
		require.NoError(t, err)
		defer answer.Body.Close()
		resumed, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		by.CloseIdleConnections()
		return string(resumed)
	}
	assert.Equal(t, []string{"false", "true", "true"}, []string{ask(), ask(), ask()})
	require.NoError(t, os.WriteFile(trusted, append(text, text...), 0o600))
	holder.looked = time.Time{} // as if it had been a while
	assert.Equal(t, []string{"false", "true"}, []string{ask(), ask()})
}
