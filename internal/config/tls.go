package config

import (
	"nexocumula/internal/certs"
	"nexocumula/internal/config/shape"
)

// serverTLS are the certificates of the HTTP interface.
type serverTLS struct {
	Cert     string `yaml:"cert"`
	Key      string `yaml:"key"`
	ClientCA string `yaml:"client_ca"`
}

// TLS is how the HTTP interface is reached by TLS.
type TLS struct {
	*certs.Holder
	ClientsShow bool // every client must show a certificate
}

func (raw *serverTLS) check(at shape.Place) *TLS {
	if raw == nil {
		return nil
	}
	if raw.Cert == "" || raw.Key == "" {
		at.Wrong("the HTTP interface needs cert: and key:, PEM files of its certificate and the key")
		return nil
	}
	return &TLS{shape.Parsed(at, certs.Files{CA: raw.ClientCA, Cert: raw.Cert, Key: raw.Key}, certs.Open), raw.ClientCA != ""}
}

// clientTLS are the certificates of an uplink.
type clientTLS struct {
	CA         string `yaml:"ca"`
	Cert       string `yaml:"cert"`
	Key        string `yaml:"key"`
	ServerName string `yaml:"server_name"`
}

func (raw *clientTLS) check(at shape.Place, secure bool, out *Uplink) {
	switch {
	case raw == nil:
	case !secure:
		at.Wrong("tls: is for an address that begins with https://")
	default:
		out.TLS, out.ServerName = shape.Parsed(at, certs.Files{CA: raw.CA, Cert: raw.Cert, Key: raw.Key}, certs.Open), raw.ServerName
	}
}
