package modbus

import (
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/span"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
)

// Kind polls the registers of devices.
var Kind = source.Kind("modbus",
	"a line with Modbus devices: a device on the network, or the units on a serial line or behind a gateway to one. What a device refuses, cuts short or does not answer is learned, kept over restarts, and tried again once a day; a unit that does not answer is asked more and more rarely, up to once a minute",
	check)

// lineKeys are a line and what is on it.
type lineKeys struct {
	Address     string `yaml:"address" is:"required" says:"tcp://host:port, tls://host:port, udp://host:port, rtu+tcp://host:port and rtu+udp://host:port (serial framing over a network), or rtu:///dev/ttyS0"`
	serialKeys  `yaml:",inline"`
	TLS         *clientTLS       `yaml:"tls" says:"certificates, of an address that begins with tls://"`
	Timeout     string           `yaml:"timeout" is:"1s" says:"how long to wait for an answer"`
	SilentShare *float64         `yaml:"silent_share" is:"0.1" says:"of the line's time, at most this is spent on waiting for units that do not answer, while others do"`
	Every       string           `yaml:"every" is:"10s" says:"schedule of registers without a group, 100ms to 1d"`
	Unit        *int             `yaml:"unit" is:"1" says:"unit id of registers that say none"`
	deviceKeys  `yaml:",inline"` // of registers that stand here
	Devices     []describedKeys  `yaml:"devices" says:"list of devices that are described in a file of their own"`
	Registers   []registerKeys   `yaml:"registers" says:"list; or devices"`
	Groups      []groupKeys      `yaml:"groups" says:"list of schedules; see group of a register"`
}

// deviceKeys are the configuration keys of a whole device.
type deviceKeys struct {
	WordOrder string `yaml:"word_order" is:"high_first" says:"or low_first: the words of wide values, where a register says nothing else"`
	ByteOrder string `yaml:"byte_order" is:"high_first" says:"or low_first: the bytes of a word"`
	Longest   int    `yaml:"longest_read" is:"learned" says:"registers that the device gives at once, at most 125"`
	Holes     string `yaml:"holes" is:"learn" says:"registers between those wanted are read over where that is cheaper and the device does not refuse it; or never, for a device where reading changes something"`
	Pause     string `yaml:"pause" is:"learned" says:"that the line needs between an answer and the next request, to whichever unit; the longest of its units counts"`
}

type groupKeys struct {
	Name  string `yaml:"name" is:"required" says:"that registers name"`
	Every string `yaml:"every" is:"required" says:"100ms to 1d, or on_demand: only when somebody asks, with nexocumula source read or the HTTP interface"`
	Phase string `yaml:"phase" is:"spread" says:"points of the schedule after full multiples of every, counted from midnight UTC, such as 5s; without it each line and group has its own, so that they do not all ask at once"`
	Time  string `yaml:"time" is:"answer" says:"of a reading: when the answer came, or schedule: the point of the schedule it belongs to"`
}

// settings of a line, checked.
type settings struct {
	address     address
	timeout     time.Duration
	silentShare float64
	groups      []group
	units       map[uint8]unitLimits
	registers   []register
}

// group is a schedule.
type group struct {
	name      string
	every     time.Duration // 0: on demand
	phase     time.Duration // less than 0: spread
	scheduled bool          // readings have the time of the schedule's point
}

// unitLimits holds the limits that the configuration states for a unit.
type unitLimits struct {
	longest int // 0: none stated
	holes   bool
	pause   time.Duration // less than 0: none stated
}

const (
	maxRegisters   = 4096
	leastEvery     = 100 * time.Millisecond
	mostEvery      = 24 * time.Hour
	ordinary       = "every" // name of the group of registers that name none
	defaultTimeout = time.Second
	defaultShare   = 0.1
)

// Reaches returns the line's address.
func (s settings) Reaches() string { return s.address.text }

// Needs returns a serial line of this machine.
func (s settings) Needs(string) string {
	if !strings.HasPrefix(s.address.text, "rtu://") {
		return ""
	}
	return "serial line " + s.address.text + "; name all its units in one source"
}

// Feeds returns the series of the registers.
func (s settings) Feeds() (out []config.Feed) {
	for _, r := range s.registers {
		out = append(out, config.Feed{
			Levels: strings.Split(string(r.series), "/"),
			Only:   true,
			Text:   r.as.text,
			At:     r.at,
		})
	}
	return out
}

// checkUnits finds the unit that nobody answers for.
func (s settings) checkUnits(at shape.Place) {
	i := slices.IndexFunc(s.registers, func(r register) bool { return r.unit == 0 })
	switch {
	case i < 0:
	case strings.HasPrefix(s.address.text, "rtu"):
		s.registers[i].at.Key("unit").Wrong("unit 0 speaks to all units of a serial line at once, and none answers; say which it is, 1 to 247")
	default:
		s.registers[i].at.Key("unit").Advise("unit 0 is rarely right: a device on the network is mostly unit 1 or 255")
	}
}

// checkOverlaps advises where one value's registers reach into another's.
func (s settings) checkOverlaps() {
	all := slices.Clone(s.registers)
	key := func(r register) string { return fmt.Sprintf("%03d %s %05d", r.unit, r.table, r.address) }
	slices.SortStableFunc(all, func(a, b register) int { return strings.Compare(key(a), key(b)) })
	for i := 1; i < len(all); i++ {
		a, b := all[i-1], all[i]
		switch reaches := a.unit == b.unit && a.table == b.table && int(a.address)+a.as.words > int(b.address); {
		case !reaches:
		case a.address == b.address && (a.bits != nil || b.bits != nil || a.as.name == b.as.name):
		default:
			b.at.Key("address").Advise("%s as %s and %s as %s have registers in common; one of them is likely of another type or address",
				a.place(), a.as.name, b.place(), b.as.name)
		}
	}
}

func (s settings) Open(name string, into *pipeline.Pipeline, log *slog.Logger) source.Source {
	return open(name, s, into, log)
}

func check(at shape.Place, site string, raw lineKeys) source.Settings {
	out := settings{
		address:     raw.serialKeys.check(at, raw.Address, raw.TLS),
		timeout:     at.Key("timeout").Within(raw.Timeout, defaultTimeout, 10*time.Millisecond, time.Minute),
		silentShare: defaultShare,
		groups: []group{{
			name:  ordinary,
			every: at.Key("every").Within(raw.Every, 10*time.Second, leastEvery, mostEvery),
			phase: -1,
		}},
		units: map[uint8]unitLimits{},
	}
	if raw.SilentShare != nil {
		if out.silentShare = *raw.SilentShare; out.silentShare < 0.001 || out.silentShare > 1 {
			at.Key("silent_share").Wrong("%g is not possible; use 0.001 to 1", *raw.SilentShare)
		}
	}
	unit := 1
	if raw.Unit != nil {
		unit = *raw.Unit
	}
	for i, g := range raw.Groups {
		out.addGroup(at.Key("groups").Item(i), g)
	}
	limits := raw.deviceKeys.limits(at)
	for i, r := range raw.Registers {
		found := r.registers(stands{at.Key("registers").Item(i), site, unit, raw.deviceKeys})
		for _, one := range found {
			out.units[one.unit] = limits
		}
		out.registers = append(out.registers, found...)
	}
	for i, d := range raw.Devices {
		d.describe(at.Key("devices").Item(i), site, &out)
	}
	switch n := len(out.registers); {
	case len(raw.Registers) == 0 && len(raw.Devices) == 0:
		at.Wrong("nothing is to be read: list registers, or devices with a description")
	case n > maxRegisters:
		at.Wrong("%d values are to be read; at most %d are possible on a line", n, maxRegisters)
	}
	out.checkUnits(at)
	out.checkOverlaps()
	for _, g := range out.groups {
		if g.every > 0 && out.timeout > g.every {
			at.Key("timeout").Advise("waiting %s for an answer takes longer than %s from one point of the schedule of group %q to the next; a device that says nothing makes the others late. Use a shorter timeout, or a longer every",
				span.Format(out.timeout), span.Format(g.every), g.name)
		}
	}
	for i, r := range out.registers {
		out.registers[i].where = r.place()
		if !slices.ContainsFunc(out.groups, func(g group) bool { return g.name == r.group }) {
			if r.group != "" {
				at.Key("groups").Wrong("%s is of the group %q, and there is none of that name", r.place(), r.group)
			}
			out.registers[i].group = ordinary
		}
	}
	return out
}

func (raw deviceKeys) limits(at shape.Place) unitLimits {
	out := unitLimits{
		longest: at.Key("longest_read").Count(raw.Longest, 0, 1, mostRegisters, "registers are"),
		holes:   raw.Holes != "never",
		pause:   -1,
	}
	if raw.Holes != "" && raw.Holes != "never" && raw.Holes != "learn" {
		at.Key("holes").Wrong("%q is not known; use learn or never", raw.Holes)
	}
	if raw.Pause != "" {
		out.pause = at.Key("pause").Within(raw.Pause, 0, 0, 10*time.Second)
	}
	return out
}

// addGroup takes a group in. One of the line counts before one of a description.
func (s *settings) addGroup(at shape.Place, raw groupKeys) {
	switch {
	case raw.Name == "" || raw.Name == ordinary:
		at.Key("name").Wrong("a group needs a name, and %q names the registers without one", ordinary)
	case raw.Every == "":
		at.Key("every").Wrong("say how often, such as 10s, or on_demand")
	}
	out := group{name: raw.Name, phase: -1, scheduled: raw.Time == "schedule"}
	if raw.Every != "on_demand" {
		out.every = at.Key("every").Within(raw.Every, 10*time.Second, leastEvery, mostEvery)
	} else if raw.Phase != "" || raw.Time != "" {
		at.Key("every").Wrong("a group that is read on demand has no schedule, and so neither phase nor time")
	}
	if raw.Phase != "" {
		if out.phase = at.Key("phase").Duration(raw.Phase, 0); out.phase < 0 || out.phase >= max(out.every, 1) {
			at.Key("phase").Wrong("%s is not possible; it is less than every: %s", raw.Phase, raw.Every)
		}
	}
	if raw.Time != "" && raw.Time != "schedule" && raw.Time != "answer" {
		at.Key("time").Wrong("%q is not known; use answer or schedule", raw.Time)
	}
	s.groups = append(s.groups, out)
}
