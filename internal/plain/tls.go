package plain

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
)

// alerts maps alerts that end a handshake because of our certificate to words (RFC 8446, 6.2).
var alerts = map[tls.AlertError]string{
	42: "it cannot be used", 43: "its kind is not supported", 44: "it was revoked", 45: "it has expired", 46: "it is not accepted", 48: "its authority is not known there", 49: "it may not connect",
}

// tlsWords says what went wrong between the two ends of TLS; "" where it was something else.
func tlsWords(err error) string {
	if _, ok := errors.AsType[tls.RecordHeaderError](err); ok ||
		strings.Contains(err.Error(), "first record does not look like a TLS handshake") {
		return "the other end speaks no TLS there; is it the port without TLS?"
	}
	if alert, ok := alertOf(err); ok {
		if alert == 116 { // RFC 8446: certificate_required
			return "the other end wants a certificate, and none was shown; give tls: with cert: and key:"
		}
		if why, ok := alerts[alert]; ok {
			return fmt.Sprintf("the other end refuses the certificate that was shown: %s (%v); see tls: cert:", why,
				alert)
		}
		return ""
	}
	if unknown, ok := errors.AsType[x509.UnknownAuthorityError](err); ok {
		return fmt.Sprintf("its certificate is of no authority that is known here (%v); name the authority with ca:",
			unknown)
	}
	if other, ok := errors.AsType[x509.HostnameError](err); ok {
		return fmt.Sprintf("its certificate is of another name: %v", other)
	}
	if invalid, ok := errors.AsType[x509.CertificateInvalidError](err); ok && invalid.Reason == x509.Expired {
		return fmt.Sprintf("its certificate has expired, or is not valid yet; is the clock right here? (%v)", invalid)
	}
	return ""
}

// alertOf finds an alert that came from the other end.
func alertOf(err error) (tls.AlertError, bool) {
	if alert, ok := errors.AsType[tls.AlertError](err); ok {
		return alert, true
	}
	for _, code := range []tls.AlertError{42, 43, 44, 45, 46, 48, 49, 116} { // libraries may keep no more than the text
		if strings.HasSuffix(err.Error(), "remote error: "+code.Error()) {
			return code, true
		}
	}
	return 0, false
}
