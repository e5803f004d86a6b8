package mqtt

import (
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"slices"
	"strings"

	"nexocumula/internal/certs"
	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/gateway/sparkplug"
)

// ListenerKind is a listener that devices connect to.
var ListenerKind = source.Kind("mqtt_listener",
	"an MQTT 3.1.1 and 5 listener that devices connect to; they can publish and not subscribe", checkListener)

// BrokerKind is a client of an existing broker.
var BrokerKind = source.Kind("mqtt_broker",
	"a client of an existing MQTT broker, with a session that outlives the connection; what the broker had retained counts only with a time of its own",
	checkBroker)

type listenerKeys struct {
	Address      string           `yaml:"address" is:"required" says:"host:port to listen at; after a kill, a device can repeat messages of QoS 2 that were stored, which are stored twice where they carry no time of their own"`
	TLS          *listenerTLS     `yaml:"tls" says:"certificates; without them anybody on the way can read along"`
	Accounts     string           `yaml:"accounts" says:"file with a line name:hash for each account, as nexocumula password makes them; read again when it changes"`
	Permissions  []permissionKeys `yaml:"permissions" is:"everywhere" says:"list; a device may publish where one of them allows it"`
	OpenToAnyone bool             `yaml:"open_to_anyone" is:"false" says:"true lets devices without account publish from other machines too"`
	Presence     string           `yaml:"presence" says:"series that is 1 while a device is connected and 0 when it is not, such as {client}/online, with {client} and {account}"`
	MaxPayload   int              `yaml:"max_payload" is:"262144" says:"bytes"`
	MaxClients   int              `yaml:"max_clients" is:"1000" says:"connected at the same time"`
	MessageRate  int              `yaml:"messages_per_second" is:"any" says:"of one device; who sends more is told so and sent away, and may come back"`
	ByteRate     int              `yaml:"bytes_per_second" is:"any" says:"of one device, likewise"`
	Messages     []shape.Part     `yaml:"messages" says:"list; see messages; needed without sparkplug"`
	Sparkplug    *sparkplug.Keys  `yaml:"sparkplug" says:"takes Sparkplug B: edge nodes and devices that say themselves what they measure"`
}

type brokerKeys struct {
	Address      string     `yaml:"address" is:"required" says:"tcp://host:port, or tls://host:port"`
	TLS          *brokerTLS `yaml:"tls" says:"certificates, of an address that begins with tls://"`
	Version      string     `yaml:"version" is:"3.1.1" says:"of MQTT; or 5"`
	ClientID     string     `yaml:"client_id" is:"nexocumula-SITE-SOURCE" says:"what the broker knows the session by; a session of another client id is a new one, without what waits in the old one"`
	User         string     `yaml:"user" says:"name of the account there"`
	shape.Secret `yaml:",inline"`
	Share        string          `yaml:"share" says:"name of a shared subscription, of which each message goes to one of its clients only; with version 5"`
	MostUnacked  int             `yaml:"most_unacknowledged" is:"1000" says:"messages that the broker sends before it waits for acknowledgements; with version 5"`
	Messages     []shape.Part    `yaml:"messages" says:"list; see messages; needed without sparkplug"`
	Sparkplug    *sparkplug.Keys `yaml:"sparkplug" says:"takes Sparkplug B: edge nodes and devices that say themselves what they measure"`
}

const (
	defaultMaxPayload = 256 << 10
	largestPayload    = 8 << 20
	defaultMaxClients = 1000
	mostClients       = 100_000
)

// listenerSettings are checked.
type listenerSettings struct {
	address     string
	tls         *certs.Holder
	needCert    bool
	accounts    *accounts // nil: none
	permissions []permission
	presence    payload.Template
	maxPayload  int // bytes
	maxClients  int // connected at the same time
	messageRate int // a second, of one device; 0: any
	byteRate    int
	messages    []payload.Message
	sparkplug   *sparkplug.Settings // nil: none
}

// Feeds returns the series of the messages, and those of who is connected.
func (s listenerSettings) Feeds() []config.Feed {
	out := feeds(s.messages, s.sparkplug)
	if s.presence != "" {
		out = append(out, config.Feed{Levels: strings.Split(presenceNames.Replace(string(s.presence)), "/")})
	}
	return out
}

var presenceNames = strings.NewReplacer("{client}", "+", "{account}", "+")

// Feeds returns the series of the messages.
func (s brokerSettings) Feeds() []config.Feed { return feeds(s.messages, s.sparkplug) }

func feeds(messages []payload.Message, sparks *sparkplug.Settings) []config.Feed {
	out := payload.Feeds(messages)
	if sparks != nil {
		out = append(out, config.Feed{Levels: []string{"#"}}) // nodes say what they measure
	}
	return out
}

func (s listenerSettings) Open(name string, into *pipeline.Pipeline, log *slog.Logger) source.Source {
	return newListener(name, s, into, log)
}

// Needs returns the port.
func (s listenerSettings) Needs(string) string {
	if _, port, err := net.SplitHostPort(s.address); err != nil || port == "0" {
		return "" // any port that is free
	}
	return "address " + s.address
}

func checkListener(at shape.Place, site string, raw listenerKeys) source.Settings {
	at.Key("address").HostPort(raw.Address)
	out := listenerSettings{
		address:     raw.Address,
		tls:         raw.TLS.check(at.Key("tls")),
		maxPayload:  at.Key("max_payload").Count(raw.MaxPayload, defaultMaxPayload, 1, largestPayload, "bytes is"),
		maxClients:  at.Key("max_clients").Count(raw.MaxClients, defaultMaxClients, 1, mostClients, "clients are"),
		messageRate: at.Key("messages_per_second").Count(raw.MessageRate, 0, 1, 1e6, "messages a second are"),
		byteRate:    at.Key("bytes_per_second").Count(raw.ByteRate, 0, 1, 1e9, "bytes a second are"),
		messages:    messages(at, site, raw.Messages, raw.Sparkplug),
		sparkplug:   raw.Sparkplug.Check(at.Key("sparkplug"), site),
	}
	byCert := raw.TLS != nil && raw.TLS.ClientCA != ""
	out.needCert = byCert && raw.Accounts == ""
	if raw.Accounts != "" {
		out.accounts = shape.Parsed(at.Key("accounts"), raw.Accounts, openAccounts)
	}
	for i, p := range raw.Permissions {
		item := at.Key("permissions").Item(i)
		out.permissions = append(out.permissions, p.check(item))
		if slices.ContainsFunc(p.Topics, func(t string) bool { return strings.Contains(t, "{client}") }) {
			item.Key("topics").Advise("a device chooses its client id, so {client} keeps no account from topics of another; {account} does")
		}
	}
	if raw.Presence != "" {
		out.presence = shape.Parsed(at.Key("presence"), raw.Presence, func(text string) (payload.Template, error) {
			t, err := payload.ParseTemplate(text, []string{"client", "account"})
			return payload.Template(site + "/" + string(t)), err
		})
	}
	if raw.Accounts == "" && !byCert && !raw.OpenToAnyone && !loopback(raw.Address) {
		at.Key("address").Wrong("at %s any machine that reaches this one could publish without saying who it is; give accounts:, or tls: with client_ca:, or say open_to_anyone: true",
			raw.Address)
	}
	return out
}

// loopback reports whether only this machine reaches an address.
func loopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	return err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// brokerSettings are checked.
type brokerSettings struct {
	address   *url.URL // tcp://host:port or tls://host:port
	tls       *certs.Holder
	server    string // name that its certificate must have
	version   int    // of MQTT: 4 for 3.1.1, or 5
	site      string
	clientID  string // "": see clientFor
	user      string
	password  string
	share     string
	unacked   uint16
	messages  []payload.Message
	sparkplug *sparkplug.Settings // nil: none
}

// Reaches returns the broker's address.
func (s brokerSettings) Reaches() string { return s.address.String() }

func (s brokerSettings) Open(name string, into *pipeline.Pipeline, log *slog.Logger) source.Source {
	return newBroker(name, s, into, log)
}

// clientFor returns the client id of a source. Two clients with one id end each other's sessions.
func (s brokerSettings) clientFor(name string) string {
	if s.clientID != "" {
		return s.clientID
	}
	return "nexocumula-" + s.site + "-" + name
}

// Needs returns the session at the broker.
func (s brokerSettings) Needs(name string) string {
	return fmt.Sprintf("client id %q at %s; give each source its own client_id", s.clientFor(name), s.address)
}

// filters returns what to subscribe to: no filter that another one covers, as many brokers deliver a message for each
// subscription that matches.
func (s brokerSettings) filters() (out []string) {
	for _, m := range s.messages {
		out = append(out, m.Topic.Filter())
	}
	out = uncovered(out)
	if s.share != "" {
		for i := range out {
			out[i] = "$share/" + s.share + "/" + out[i]
		}
	}
	if s.sparkplug != nil {
		out = uncovered(append(out, s.sparkplug.Filters()...))
	}
	return out
}

// messages returns the messages of a source; only a source that speaks nothing but Sparkplug has none.
func messages(at shape.Place, site string, parts []shape.Part, sparks *sparkplug.Keys) []payload.Message {
	if sparks != nil && len(parts) == 0 {
		return nil
	}
	return payload.ReadMessages(at.Key("messages"), site, parts)
}

const mostUnacked = 1000

func checkBroker(at shape.Place, site string, raw brokerKeys) source.Settings {
	u, err := url.Parse(raw.Address)
	if err != nil || u.Scheme != "tcp" && u.Scheme != "tls" || u.Hostname() == "" || u.Port() == "" {
		at.Key("address").Wrong("%q is not the address of a broker; write tcp://host:port, or tls://host:port",
			raw.Address)
		u = &url.URL{}
	}
	out := brokerSettings{
		site: site, address: u, clientID: raw.ClientID, user: raw.User, password: at.Secret(raw.Secret, false),
		tls: raw.TLS.check(at.Key("tls"), u.Scheme == "tls"), server: u.Hostname(), share: raw.Share,
		unacked:   uint16(at.Key("most_unacknowledged").Count(raw.MostUnacked, mostUnacked, 1, 65535, "messages are")),
		messages:  messages(at, site, raw.Messages, raw.Sparkplug),
		sparkplug: raw.Sparkplug.Check(at.Key("sparkplug"), site),
	}
	if raw.TLS != nil && raw.TLS.ServerName != "" {
		out.server = raw.TLS.ServerName
	}
	for _, pair := range overlapping(out.filters()) {
		at.Key("messages").Advise("the filters %s and %s overlap: some brokers deliver a message that matches both twice",
			pair[0], pair[1])
	}
	switch raw.Version {
	case "", "3.1.1":
		out.version = 4
		if raw.Share != "" || raw.MostUnacked != 0 {
			at.Key("version").Wrong("share and most_unacknowledged are of MQTT 5; say version: 5, if the broker speaks it")
		}
	case "5", "5.0":
		out.version = 5
	default:
		at.Key("version").Wrong("version %s of MQTT is not known; use 3.1.1 or 5", raw.Version)
	}
	if raw.Share != "" && raw.Sparkplug != nil {
		at.Key("share").Wrong("of Sparkplug, one host has to see all messages; it cannot be shared")
	}
	if strings.ContainsAny(raw.Share, "/+#") {
		at.Key("share").Wrong("%q is no name of a shared subscription; leave out /, + and #", raw.Share)
	}
	return out
}
