package config

import (
	"net/netip"

	"nexocumula/internal/config/shape"
)

// Field bounds what people may do with the tools of commissioning over HTTP.
type Field struct {
	Files    string         // folder in which files must be that appended lines name; "": they may name none
	Networks []netip.Prefix // that tools may connect to; nil: loopback and private ranges
}

type fieldFile struct {
	Files    string   `yaml:"files" is:"none" says:"folder in which files must be that are named by lines which arrive over HTTP: register maps, certificates, secrets; never the service's own data folder"`
	Networks []string `yaml:"networks" is:"loopback and private ranges" says:"list of networks, such as 10.2.0.0/16, that watch, probe, scan and check --live may connect to when they are asked for over HTTP"`
}

// FieldKeys lists the keys of the section field.
func FieldKeys() []shape.Key { return shape.Keys(&fieldFile{}) }

func (raw fieldFile) check(at shape.Place) Field {
	out := Field{Files: raw.Files}
	for i, text := range raw.Networks {
		network, err := netip.ParsePrefix(text)
		if err != nil {
			at.Key("networks").Item(i).Wrong("%q is not a network; write an address and how many of its bits count, such as 10.2.0.0/16, or 192.0.2.7/32 for one address",
				text)
			continue
		}
		out.Networks = append(out.Networks, network.Masked())
	}
	return out
}

// Reaches reports whether tools may connect to an address.
func (f Field) Reaches(ip netip.Addr) bool {
	ip = ip.Unmap()
	if f.Networks == nil {
		return ip.IsLoopback() || ip.IsPrivate()
	}
	for _, n := range f.Networks {
		if n.Contains(ip) {
			return true
		}
	}
	return false
}
