package certs

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nexocumula/internal/secret"
)

// The files of a certificate that a service made for itself, in a folder.
const (
	OwnCert = "own-cert.pem"
	OwnKey  = "own-key.pem"
)

// Own returns a certificate that its owner signed himself. It is made where there is none, and
// stays the same, as others know it by its fingerprint.
func Own(dir string, names []string) (*Holder, error) {
	files := Files{Cert: filepath.Join(dir, OwnCert), Key: filepath.Join(dir, OwnKey)}
	_, err := os.Stat(files.Cert)
	if errors.Is(err, fs.ErrNotExist) {
		err = makeOwn(files, names)
	}
	if err != nil {
		return nil, fmt.Errorf("making a certificate: %w", err)
	}
	h, err := Open(files)
	if err != nil {
		return nil, err
	}
	return h, undamaged(files, h.cert.Leaf)
}

// undamaged checks what a certificate that its owner signed says of itself: with a bit of it changed it would still be
// read, and those who know it by its fingerprint would turn away for no reason that they can see.
func undamaged(files Files, own *x509.Certificate) error {
	if err := own.CheckSignature(own.SignatureAlgorithm, own.RawTBSCertificate, own.Signature); err != nil {
		return fmt.Errorf("the certificate %s is damaged, as it is not signed with its own key: put back a copy of it, or delete it "+
			"to have a new one made, whose fingerprint clients must be told; a certificate of an authority is given by tls.cert and tls.key",
			files.Cert)
	}
	return nil
}

// noEnd is the end of a certificate without one (RFC 5280, 4.1.2.5). It must not depend on the
// clock, which on a board may not be set when it is first switched on.
var noEnd = time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)

func makeOwn(files Files, names []string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	host, err := os.Hostname()
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return err
	}
	about := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: host}, NotBefore: time.Date(2020, 1, 1, 0, 0, 0, 0,
			time.UTC), NotAfter: noEnd,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
	}
	for _, name := range append(append([]string{host, "localhost", "127.0.0.1", "::1"}, ownAddresses()...), names...) {
		if ip := net.ParseIP(name); ip != nil {
			about.IPAddresses = append(about.IPAddresses, ip)
		} else {
			about.DNSNames = append(about.DNSNames, name)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key)
	if err != nil {
		return err
	}
	own, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	// The certificate comes last: where it is, the key is.
	if err := secret.WriteFile(files.Key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: own})); err != nil {
		return err
	}
	return secret.WriteFile(files.Cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
}

func ownAddresses() (out []string) {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	for _, one := range all {
		if ip, ok := one.(*net.IPNet); ok && ip.IP.IsGlobalUnicast() {
			out = append(out, ip.IP.String())
		}
	}
	return out
}

// Fingerprint returns the SHA-256 of a certificate as browsers and openssl show it.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	text := strings.ToUpper(hex.EncodeToString(sum[:]))
	pairs := make([]string, len(sum))
	for i := range pairs {
		pairs[i] = text[2*i : 2*i+2]
	}
	return strings.Join(pairs, ":")
}

// Fingerprint returns the fingerprint of the present certificate.
func (h *Holder) Fingerprint() string {
	_, cert := h.current()
	return Fingerprint(cert.Certificate[0])
}

// ParseFingerprint reads one, with or without colons.
func ParseFingerprint(text string) (string, error) {
	raw, err := hex.DecodeString(strings.ReplaceAll(strings.TrimSpace(text), ":", ""))
	if err != nil || len(raw) != sha256.Size {
		return "", fmt.Errorf("%q is no fingerprint; it has %d pairs of hexadecimal digits, with colons between them",
			text, sha256.Size)
	}
	pairs := make([]string, len(raw))
	for i, b := range raw {
		pairs[i] = fmt.Sprintf("%02X", b)
	}
	return strings.Join(pairs, ":"), nil
}

// Pinned makes HTTP requests to a service that shows the certificate with a fingerprint, and
// to no other; who signed it does not matter.
func Pinned(fingerprint string) *http.Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{
		MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, // the fingerprint is looked at instead
		VerifyConnection: func(s tls.ConnectionState) error {
			if shown := Fingerprint(s.PeerCertificates[0].Raw); shown != fingerprint {
				return &Another{Shown: shown, Wanted: fingerprint}
			}
			return nil
		},
	}
	return &http.Client{Transport: transport}
}

// Another says that a service showed another certificate than it did before.
type Another struct{ Shown, Wanted string }

func (a *Another) Error() string {
	return fmt.Sprintf("it shows another certificate than before (%s instead of %s): either it was set up anew, or something stands between; nothing was sent",
		a.Shown, a.Wanted)
}
