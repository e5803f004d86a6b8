package config

import (
	"github.com/dustin/go-humanize"

	"nexocumula/internal/config/shape"
)

type roomFile struct {
	Readings string `yaml:"readings"`
	Store    string `yaml:"store"`
	Reserve  string `yaml:"reserve"`
	Unsent   string `yaml:"unsent"`
}

// Room says how large the store may become. 0 is no limit.
type Room struct {
	Readings uint64  // bytes of readings
	Store    uint64  // bytes of the store's files
	Reserve  *uint64 // bytes of the disk that stay free; nil: the usual
	Unsent   bool    // summaries that no central has may be dropped as well
}

// leastRoom is the least that a store or its readings can be limited to.
const leastRoom = 1 << 20

func (raw *roomFile) check(at shape.Place) Room {
	var out Room
	if raw == nil {
		return out
	}
	size := func(key, text string, otherwise, least uint64) uint64 {
		if text == "" {
			return otherwise
		}
		n, err := humanize.ParseBytes(text)
		if err != nil || n < least {
			at.Key(key).Wrong("%q is not possible; write a size of at least %s, such as 8GB", text, humanize.Bytes(least))
			return otherwise
		}
		return n
	}
	out.Readings = size("readings", raw.Readings, 0, leastRoom)
	out.Store = size("store", raw.Store, 0, leastRoom)
	if raw.Reserve != "" {
		reserve := size("reserve", raw.Reserve, 0, 0)
		out.Reserve = &reserve
	}
	switch raw.Unsent {
	case "", "keep":
	case "drop":
		out.Unsent = true
	default:
		at.Key("unsent").Wrong("%q is not possible; write keep, or drop, for summaries that no central has", raw.Unsent)
	}
	return out
}
