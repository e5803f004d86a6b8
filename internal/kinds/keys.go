package kinds

import (
	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/modbus"
	"nexocumula/internal/gateway/payload"
)

// KeyList lists the keys that a part of the configuration may have.
type KeyList struct {
	Name string // of a source or a payload form
	Says string
	Keys []shape.Key
}

// KeyLists returns the key lists of all sources, of messages, and of all payload forms.
func KeyLists() (out []KeyList) {
	out = append(out, KeyList{
		"series",
		"what the series that a selector names are like: how raw values become true ones, what is not plausible, what is usual",
		config.SeriesKeys(),
	}, KeyList{
		"access", "who may do what: how people log in, and how long what they did is kept", config.AccessKeys(),
	}, KeyList{
		"field", "what the tools of commissioning may reach when they are asked for over HTTP", config.FieldKeys(),
	})
	out = append(out, KeyList{
		"uplink", "a place that what is here is sent to; address, tls and a secret of a central stand beside", config.UplinkKeys(),
	})
	for _, k := range All.Uplinks {
		if k.Key != "" {
			out = append(out, KeyList{"uplink " + k.Key, k.Says, shape.Keys(k.Shape())})
		}
	}
	for _, k := range All.Sources {
		out = append(out, KeyList{k.Key, k.Says, shape.Keys(k.Shape())})
	}
	out = append(out, KeyList{
		"modbus description",
		"a file of its own that describes a device: YAML with these keys, or CSV with those of registers",
		modbus.DescriptionKeys(),
	})
	out = append(out, KeyList{
		"messages", "which topics become which series; the first that matches counts", payload.MessageKeys(),
	})
	for _, f := range payload.Forms() {
		out = append(out, KeyList{"payload: " + f.Name, f.Says, f.Keys})
	}
	return out
}
