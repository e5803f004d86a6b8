package certs

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
)

// Authority signs certificates for devices that are not there: the demo's, and those of tests.
type Authority struct {
	Dir  string // in which its files are
	CA   string // file
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	next int64
}

// lasts is for how long what it signs is good.
const lasts = 366 * 24 * time.Hour

// NewAuthority makes one, with its certificate as ca.pem in a folder.
func NewAuthority(dir string) (*Authority, error) {
	a := &Authority{Dir: dir, CA: filepath.Join(dir, "ca.pem"), next: 1}
	a.cert = &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Fellwater Trout, made-up authority"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(lasts), KeyUsage: x509.KeyUsageCertSign,
	}
	var err error
	if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	return a, a.sign(a.CA, a.cert, &a.key.PublicKey)
}

// Make signs a certificate for a name, which is good for this machine's loopback too, and
// writes it and its key as name.pem and name.key.
func (a *Authority) Make(name string) (cert, key string, err error) {
	a.next++
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	cert, key = filepath.Join(a.Dir, name+".pem"), filepath.Join(a.Dir, name+".key")
	err = a.sign(cert, &x509.Certificate{
		SerialNumber: big.NewInt(a.next), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name, "localhost"}, IPAddresses: []net.IP{net.IPv4(127,
			0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(lasts),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}, &own.PublicKey)
	if err != nil {
		return "", "", err
	}
	der, err := x509.MarshalPKCS8PrivateKey(own)
	if err != nil {
		return "", "", err
	}
	return cert, key, writePEM(key, "PRIVATE KEY", der)
}

func (a *Authority) sign(file string, what *x509.Certificate, key *ecdsa.PublicKey) error {
	der, err := x509.CreateCertificate(rand.Reader, what, a.cert, key, a.key)
	if err != nil {
		return err
	}
	return writePEM(file, "CERTIFICATE", der)
}

func writePEM(file, kind string, der []byte) error {
	return os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600)
}
