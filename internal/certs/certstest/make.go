// Package certstest makes certificates for tests.
package certstest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/stretchr/testify/require"
)

// Authority is one that signs, and the folder in which its files are.
type Authority struct {
	Dir  string
	CA   string // file
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	next int64
}

// New makes an authority in a folder.
func New(t require.TestingT, dir string) *Authority {
	a := &Authority{Dir: dir, CA: filepath.Join(dir, "ca.pem"), next: 1}
	a.cert = &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Trout Test Authority"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), KeyUsage: x509.KeyUsageCertSign,
	}
	var err error
	a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	a.write(t, a.CA, "CERTIFICATE", a.sign(t, a.cert, &a.key.PublicKey))
	return a
}

// Make signs a certificate for a name, which is good for this machine's loopback too, and
// returns the files of it and of its key.
func (a *Authority) Make(t require.TestingT, name string) (cert, key string) {
	a.next++
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	made := a.sign(t, &x509.Certificate{
		SerialNumber: big.NewInt(a.next), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name, "localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}, &own.PublicKey)
	der, err := x509.MarshalPKCS8PrivateKey(own)
	require.NoError(t, err)
	cert, key = filepath.Join(a.Dir, name+".pem"), filepath.Join(a.Dir, name+".key")
	a.write(t, cert, "CERTIFICATE", made)
	a.write(t, key, "PRIVATE KEY", der)
	return cert, key
}

func (a *Authority) sign(t require.TestingT, what *x509.Certificate, key *ecdsa.PublicKey) []byte {
	der, err := x509.CreateCertificate(rand.Reader, what, a.cert, key, a.key)
	require.NoError(t, err)
	return der
}

func (a *Authority) write(t require.TestingT, file, kind string, der []byte) {
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600))
}
