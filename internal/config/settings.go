package config

import (
	"log/slog"
	"slices"
	"time"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/formula"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
)

// Settings are a service's checked settings.
type Settings struct {
	Data    string // folder of the store
	Listen  string // host:port of the HTTP interface
	TLS     *TLS   // of the HTTP interface; nil: it speaks plain HTTP
	Access  Access
	Gateway *Gateway
	Central *Central
	Keep    []Keep
	GiveUp  time.Duration // what waits for an uplink for longer may be dropped by Keep; 0: nothing may
	AwayFor time.Duration // how long the service may have been switched off
	Zone    string        // IANA name of the zone whose clocks hang at the site; empty when that is not said
	Queries Queries
	Field   Field
	Log     Log
	Backup  *Backup // nil: none is made
	Room    Room

	Sum    string            // SHA-256 of the file's text, in hexadecimal; "": there is no file
	Path   string            // of the file; "": they come from elsewhere
	Advice shape.Problems    // what is no mistake, and should be known
	Prints map[string]string // of parts of the file, by key; see Changed
}

// Log says how the service writes its log.
type Log struct {
	JSON  bool // a JSON object a line, instead of key=value
	Level slog.Level
}

// Keep says how long rows of a tier are kept. The first that names a series and tier
// counts; what none names is kept for good.
type Keep struct {
	Select series.Selector
	Tier   series.Tier
	For    time.Duration
}

// Queries bounds what one windowed query may ask for.
type Queries struct {
	MaxRows   int // windows times series
	MaxSeries int
	MaxTime   time.Duration
}

// Gateway is the part of a process that collects.
type Gateway struct {
	Site    string
	Console string // the address at which people at the central open the gateway's console; "": not told
	Keep    []Keep // the service's
	Pace    CommitDelay
	Rules   []SeriesRule
	Sources []Source
	Uplinks []Uplink
}

// CommitDelay says how long what arrives may wait for a commit that it shares.
type CommitDelay struct {
	Messages time.Duration // of senders that wait for an acknowledgement
	Polls    time.Duration // of what we asked for ourselves
}

// SeriesRule says what the series that a selector names are like. The first rule that
// matches a series counts.
type SeriesRule struct {
	Select            series.Selector
	series.Definition // without the path

	Limits       screen.Limits
	Calibrations calibrate.Versions // of which the definition says the last
	Screens      []screen.Check
	Discover     int     // how many series are found by it at most; 0: it is no rule of those that are found
	Derive       *Derive // nil: its readings come from sources
}

// Derive is how the readings of a series are made of those of others.
type Derive struct {
	Text    string
	Formula formula.Formula
	From    []Input
}

// Input is a series that another is made of.
type Input struct {
	Series string // a quantity of the same station, or station/quantity
	In     string // unit that the formula is written for; "": that of the series
	Into   unit.Conversion
}

// QualityLevel is the level below a series under which its quality is kept, as a state, when
// a screen can mark it.
const QualityLevel = "quality"

// Qualities are the states of such a series.
const Qualities series.StateNames = "0=good,1=uncertain"

// Marks reports whether a screen can mark readings of the series as uncertain.
func (r *SeriesRule) Marks() bool {
	return slices.ContainsFunc(r.Screens, func(s screen.Check) bool { return s.Then == screen.Uncertain })
}

// Define returns the definition of a series that the rule names.
func (r *SeriesRule) Define(path series.Path) series.Definition {
	out := r.Definition
	out.Path = path
	return out
}

// Source is where readings come from.
type Source struct {
	Name     string
	Kind     string // its key in the file
	Settings any    // as its kind checked them
	Print    string // another when anything of it is another, in the file or in one that it names
}

// Central is the part of a process that receives.
type Central struct {
	Name   string // at the centrals above
	Accept []Accept

	MaxSeries, MaxSeriesOfGateway int // that are kept, in all and of the sites of one gateway; 0: the defaults

	Uplinks []Uplink
}

// Accept names a gateway that may replicate to here.
type Accept struct {
	Gateway string
	Sites   []string // first levels of the series it may send
	Token   string
}
