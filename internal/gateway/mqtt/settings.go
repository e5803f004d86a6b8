package mqtt

import (
	"log/slog"
	"net/url"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
)

// ListenerKind is a listener that devices connect to.
var ListenerKind = source.Kind("mqtt_listener", "an MQTT 3.1.1 and 5 listener that devices connect to; they can publish and not subscribe", checkListener)

// BrokerKind is a client of an existing broker.
var BrokerKind = source.Kind("mqtt_broker", "a client of an existing MQTT broker, with a session that outlives the connection; what the broker had retained counts only with a time of its own", checkBroker)

type listenerKeys struct {
	Address    string       `yaml:"address" is:"required" says:"host:port to listen at"`
	MaxPayload int          `yaml:"max_payload" is:"262144" says:"bytes"`
	MaxClients int          `yaml:"max_clients" is:"1000" says:"connected at the same time"`
	Messages   []shape.Part `yaml:"messages" is:"required" says:"list; see messages"`
}

type brokerKeys struct {
	Address      string `yaml:"address" is:"required" says:"tcp://host:port"`
	ClientID     string `yaml:"client_id" is:"nexocumula-SITE" says:"what the broker knows the session by"`
	User         string `yaml:"user" says:"name of the account there"`
	shape.Secret `yaml:",inline"`
	Messages     []shape.Part `yaml:"messages" is:"required" says:"list; see messages"`
}

const (
	defaultMaxPayload = 256 << 10
	largestPayload    = 8 << 20
	defaultMaxClients = 1000
	mostClients       = 100_000
)

// listenerSettings are checked.
type listenerSettings struct {
	address    string
	maxPayload int // bytes
	maxClients int // connected at the same time
	messages   []payload.Message
}

func (s listenerSettings) Open(name string, into *pipeline.Pipeline, log *slog.Logger) source.Source {
	return newListener(name, s, into, log)
}

func checkListener(at shape.Place, site string, raw listenerKeys) source.Settings {
	at.Key("address").HostPort(raw.Address)
	return listenerSettings{
		address:    raw.Address,
		maxPayload: at.Key("max_payload").Count(raw.MaxPayload, defaultMaxPayload, 1, largestPayload, "bytes is"),
		maxClients: at.Key("max_clients").Count(raw.MaxClients, defaultMaxClients, 1, mostClients, "clients are"),
		messages:   payload.ReadMessages(at.Key("messages"), site, raw.Messages),
	}
}

// brokerSettings are checked.
type brokerSettings struct {
	address  string // tcp://host:port
	clientID string
	user     string
	password string
	messages []payload.Message
}

func (s brokerSettings) Open(name string, into *pipeline.Pipeline, log *slog.Logger) source.Source {
	return newBroker(name, s, into, log)
}

func checkBroker(at shape.Place, site string, raw brokerKeys) source.Settings {
	if u, err := url.Parse(raw.Address); err != nil || u.Scheme != "tcp" || u.Hostname() == "" || u.Port() == "" {
		at.Key("address").Wrong("%q is not the address of a broker; write tcp://host:port", raw.Address)
	}
	if raw.ClientID == "" {
		raw.ClientID = "nexocumula-" + site
	}
	return brokerSettings{
		address: raw.Address, clientID: raw.ClientID, user: raw.User, password: at.Secret(raw.Secret, false),
		messages: payload.ReadMessages(at.Key("messages"), site, raw.Messages),
	}
}
