package mqtt

import (
	"nexocumula/internal/certs"
	"nexocumula/internal/config/shape"
)

// listenerTLS are the certificates of a listener.
type listenerTLS struct {
	Cert     string `yaml:"cert" is:"required" says:"PEM file of the listener's certificate, with those between it and its authority; read again when it changes"`
	Key      string `yaml:"key" is:"required" says:"PEM file of its key, which not everybody on the machine may read"`
	ClientCA string `yaml:"client_ca" says:"PEM file of the authority whose certificates devices may show instead of a password; the certificate's common name is their account. Without accounts they must show one"`
}

func (raw *listenerTLS) check(at shape.Place) *certs.Holder {
	if raw == nil {
		return nil
	}
	if raw.Cert == "" || raw.Key == "" {
		at.Wrong("a listener needs cert: and key:, PEM files of its certificate and the key")
		return nil
	}
	return shape.Parsed(at, certs.Files{CA: raw.ClientCA, Cert: raw.Cert, Key: raw.Key}, certs.Open)
}

// brokerTLS are the certificates of a client.
type brokerTLS struct {
	CA         string `yaml:"ca" is:"this machine's" says:"PEM file of the authority that the broker's certificate is from; read again when it changes"`
	Cert       string `yaml:"cert" says:"PEM file of a certificate of our own, where the broker wants one"`
	Key        string `yaml:"key" says:"PEM file of its key, which not everybody on the machine may read"`
	ServerName string `yaml:"server_name" is:"the address's" says:"name that the broker's certificate must have"`
}

func (raw *brokerTLS) check(at shape.Place, secure bool) *certs.Holder {
	switch {
	case raw == nil && !secure:
		return nil
	case raw != nil && !secure:
		at.Wrong("tls: is for an address that begins with tls://")
		return nil
	case raw == nil:
		raw = &brokerTLS{}
	}
	return shape.Parsed(at, certs.Files{CA: raw.CA, Cert: raw.Cert, Key: raw.Key}, certs.Open)
}
