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

	SelfSigned bool     `yaml:"self_signed"`
	Names      []string `yaml:"names"`
}

// TLS is how the HTTP interface is reached by TLS.
type TLS struct {
	*certs.Holder          // nil: it makes a certificate for itself
	Names         []string // that this is for, besides those of the machine

	ClientsShow bool // every client must show a certificate
	Vouched     bool // it is from files, and so from an authority
}

func (raw *serverTLS) check(at shape.Place) *TLS {
	if raw == nil {
		return nil
	}
	switch {
	case raw.SelfSigned && raw.Cert+raw.Key+raw.ClientCA != "":
		at.Wrong("self_signed: true makes a certificate; leave it out beside cert:, key: and client_ca:")
	case raw.SelfSigned:
		return &TLS{Names: raw.Names}
	case raw.Cert == "" || raw.Key == "":
		at.Wrong("the HTTP interface needs cert: and key:, PEM files of its certificate and the key; or self_signed: true, and the service makes them for itself")
		return nil
	case len(raw.Names) > 0:
		at.Key("names").Wrong("names are for the certificate that self_signed: true makes")
	}
	return &TLS{
		Holder:      shape.Parsed(at, certs.Files{CA: raw.ClientCA, Cert: raw.Cert, Key: raw.Key}, certs.Open),
		ClientsShow: raw.ClientCA != "",
		Vouched:     true,
	}
}

// ClientTLS are the certificates of an uplink.
type ClientTLS struct {
	CA         string `yaml:"ca" is:"this machine's" says:"PEM file of the authority that the other end's certificate is from; read again when it changes"`
	Cert       string `yaml:"cert" says:"PEM file of a certificate of our own, where the other end wants one"`
	Key        string `yaml:"key" says:"PEM file of its key, which not everybody on the machine may read"`
	ServerName string `yaml:"server_name" is:"the address's" says:"name that the other end's certificate must have"`
}

// Check returns what the certificates are held by, and the name that the other end's must be for; secure says
// whether the address is one by TLS.
func (raw *ClientTLS) Check(at shape.Place, secure bool) (holder *certs.Holder, serverName string) {
	switch {
	case raw == nil:
		return nil, ""
	case !secure:
		at.Wrong("tls: is for an address that begins with https:// or tls://")
		return nil, ""
	}
	return shape.Parsed(at, certs.Files{CA: raw.CA, Cert: raw.Cert, Key: raw.Key}, certs.Open), raw.ServerName
}
