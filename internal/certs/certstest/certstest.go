// Package certstest makes certificates for tests.
package certstest

import (
	"github.com/stretchr/testify/require"

	"nexocumula/internal/certs"
)

// Authority is one that signs.
type Authority struct{ *certs.Authority }

// New makes an authority in a folder.
func New(t require.TestingT, dir string) *Authority {
	a, err := certs.NewAuthority(dir)
	require.NoError(t, err)
	return &Authority{a}
}

// Make signs a certificate for a name, and returns the files of it and of its key.
func (a *Authority) Make(t require.TestingT, name string) (cert, key string) {
	cert, key, err := a.Authority.Make(name)
	require.NoError(t, err)
	return cert, key
}
