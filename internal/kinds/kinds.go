// Package kinds is the list of all kinds of sources and uplinks that a configuration can name.
package kinds

import (
	"nexocumula/internal/config"
	"nexocumula/internal/gateway/modbus"
	"nexocumula/internal/gateway/mqtt"
	"nexocumula/internal/gateway/push"
	"nexocumula/internal/uplink/overhttp"
	"nexocumula/internal/uplink/overmqtt"
)

// All are the kinds of this program.
var All = config.Kinds{
	Sources: []config.SourceKind{mqtt.ListenerKind, mqtt.BrokerKind, modbus.Kind, push.Kind},
	Uplinks: []config.UplinkKind{overhttp.Kind, overmqtt.Kind},
}
