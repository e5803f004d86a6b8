package modbus

import (
	"crypto/tls"
	"crypto/x509"
	"io"
	"log"
	"net"
	"net/url"
	"path/filepath"
	"strings"
	"time"

	"github.com/simonvetter/modbus"

	"nexocumula/internal/certs"
	"nexocumula/internal/config/shape"
)

// ways lists the schemes that reach a line, with the protocol library's name for each.
var ways = []struct {
	scheme, library string
	serial          bool // it is a device file of this machine
	framed          bool // characters with pauses between them, as on a serial line
}{
	{scheme: "tcp", library: "tcp"},
	{scheme: "tls", library: "tcp+tls"},
	{scheme: "udp", library: "udp"},
	{scheme: "rtu", library: "rtu", serial: true, framed: true},
	{scheme: "rtu+tcp", library: "rtuovertcp", framed: true},
	{scheme: "rtu+udp", library: "rtuoverudp", framed: true},
}

var quiet = log.New(io.Discard, "", 0)

const addressHelp = "write tcp://host:port, tls://host:port, udp://host:port, rtu+tcp://host:port, rtu+udp://host:port, or rtu:///dev/ttyS0 for a serial line"

// serialKeys are the keys of a serial line.
type serialKeys struct {
	Baud     int    `yaml:"baud" is:"19200" says:"bits per second of a serial line, also of one behind rtu+tcp or rtu+udp, whose pauses follow it"`
	DataBits int    `yaml:"data_bits" is:"8" says:"of a serial line"`
	Parity   string `yaml:"parity" is:"even" says:"or odd, none"`
	StopBits int    `yaml:"stop_bits" is:"1, without parity 2" says:"of a serial line"`
}

// clientTLS are the certificates for an address that begins with tls://.
type clientTLS struct {
	CA   string `yaml:"ca" is:"this machine's" says:"PEM file of the authority that the device's certificate is from; it must be one for the address's host"`
	Cert string `yaml:"cert" says:"PEM file of a certificate of our own, where the device wants one"`
	Key  string `yaml:"key" says:"PEM file of its key, which not everybody on the machine may read"`
}

// address is the checked address of a line.
type address struct {
	text   string
	framed bool
	baud   int
	open   modbus.ClientConfiguration // but for its timeout
	certs  *certs.Holder
}

func (raw serialKeys) check(at shape.Place, text string, security *clientTLS) address {
	out := address{text: text, baud: at.Key("baud").Count(raw.Baud, 19200, 300, 4_000_000, "bits per second are")}
	u, err := url.Parse(text)
	if err != nil {
		at.Key("address").Wrong("%q is not the address of a device; %s", text, addressHelp)
		return out
	}
	library, serial, rest := "", false, u.Host
	for _, w := range ways {
		if w.scheme == u.Scheme {
			library, serial, out.framed = w.library, w.serial, w.framed
		}
	}
	if serial {
		rest = u.Path
	}
	if _, port, err := net.SplitHostPort(rest); library == "" ||
		!serial && (err != nil || port == "" || u.Hostname() == "" || u.Path != "") ||
		serial && (u.Host != "" || !filepath.IsAbs(rest)) {
		at.Key("address").Wrong("%q is not the address of a device; %s", text, addressHelp)
	}
	if !out.framed && raw.Baud != 0 {
		at.Key("baud").Wrong("only a serial line has a speed, and %s is none", text)
	}
	if !serial && (raw.DataBits != 0 || raw.Parity != "" || raw.StopBits != 0) {
		at.Wrong("data_bits, parity and stop_bits are of an address that begins with rtu://")
	}
	parities := map[string]uint{
		"":     modbus.PARITY_EVEN,
		"even": modbus.PARITY_EVEN,
		"odd":  modbus.PARITY_ODD,
		"none": modbus.PARITY_NONE,
	}
	parity, known := parities[raw.Parity]
	if !known {
		at.Key("parity").Wrong("parity %q is not known; use even, odd or none", raw.Parity)
	}
	out.open = modbus.ClientConfiguration{
		URL:      library + "://" + rest,
		Speed:    uint(out.baud),
		DataBits: uint(at.Key("data_bits").Count(raw.DataBits, 8, 7, 8, "data bits are")),
		Parity:   parity,
		StopBits: uint(at.Key("stop_bits").Count(raw.StopBits, 0, 1, 2, "stop bits are")), // 0: as Modbus has it
		Logger:   quiet,
	}
	switch {
	case security == nil && u.Scheme == "tls":
		security = &clientTLS{}
	case security != nil && u.Scheme != "tls":
		at.Key("tls").Wrong("tls: is for an address that begins with tls://")
		return out
	case security == nil:
		return out
	}
	out.certs = shape.Parsed(at.Key("tls"), certs.Files{
		CA:   security.CA,
		Cert: security.Cert,
		Key:  security.Key,
	}, certs.Open)
	return out
}

// client returns one for this address, not connected yet.
func (a address) client(timeout time.Duration, foreign func()) (*modbus.ModbusClient, error) {
	conf := a.open
	if foreign != nil {
		conf.Logger = log.New(overheard(foreign), "", 0)
	}
	conf.Timeout = timeout
	if a.certs != nil {
		pool, cert := a.certs.Parts()
		if pool == nil {
			var err error
			if pool, err = x509.SystemCertPool(); err != nil {
				return nil, err
			}
		}
		if cert == nil {
			cert = &tls.Certificate{} // the device need not want one
		}
		conf.TLSRootCAs, conf.TLSClientCert = pool, cert
	}
	return modbus.NewClient(&conf)
}

// cost returns the line's time for a request and for each of its registers. The time a device needs to
// think is not known; 5 ms is usual.
func (a address) cost() (request, word float64) {
	if !a.framed {
		return 1, 1.0 / 10_000 // bytes cost next to nothing beside a way there and back
	}
	const characterBits, idleCharacters, thinks = 11, 7, 0.005 // Modbus over Serial Line 1.02, 2.5.1: start, 8 data, parity, stop; twice 3.5 characters
	character := characterBits / float64(a.baud)
	return (8+5+idleCharacters)*character + thinks, 2 * character // question, frame of the answer
}

// String returns the address for people.
func (a address) String() string { return strings.TrimSpace(a.text) }
