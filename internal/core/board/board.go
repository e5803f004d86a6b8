package board

// Form names the form of the document, which is published as /api/board.schema.json.
const Form = "nexocumula-board-1"

// Board is a saved page of the console. Paths and selectors in it may begin with {site} or
// {station}, which stand for the place that a board about a place is shown for.
type Board struct {
	Form    string `json:"form"`
	Title   string `json:"title"`
	About   string `json:"about,omitempty"`   // path of the site or station; empty: of no certain place
	Asks    string `json:"asks,omitempty"`    // site or station: who looks chooses the place; empty: it is About
	Range   *Range `json:"range,omitempty"`   // the last day, when missing
	Zone    string `json:"zone,omitempty"`    // site, viewer, or an IANA name; the site's when empty
	Width   string `json:"width,omitempty"`   // of the windows; one that fits when empty
	Hours   string `json:"hours,omitempty"`   // only these hours of each day
	Compare string `json:"compare,omitempty"` // the same so much earlier, as a ghost: 1d, 1w, 1y
	Head    []Head `json:"head,omitempty"`
	Lanes   []Lane `json:"lanes,omitempty"`
}

// Range is a time: one of the last so much, one of the calendar, or from and to.
type Range struct {
	Last     string `json:"last,omitempty"`
	Calendar string `json:"calendar,omitempty"` // today, yesterday, this week …
	From     string `json:"from,omitempty"`     // RFC 3339
	To       string `json:"to,omitempty"`
}

// Head is one present value above the lanes.
type Head struct {
	Series string `json:"series"` // a path, or a selector, which gives one for each series
	Title  string `json:"title,omitempty"`
	Gauge  bool   `json:"gauge,omitempty"` // as a staff gauge
}

// Kinds of lanes.
const (
	Chart    = "chart"    // lines of one or more series
	States   = "states"   // a strip of named states for each series
	Growth   = "growth"   // by how much a counter grew, as bars
	Bearing  = "bearing"  // directions, without a jump over north
	Coverage = "coverage" // how much of each window good data speaks for
	Notes    = "notes"    // what people pinned, and outages
	Text     = "text"     // words and links
)

// Lane is a band of the page below the common time axis.
type Lane struct {
	Kind       string       `json:"kind"`
	Title      string       `json:"title,omitempty"`
	Series     []string     `json:"series,omitempty"` // paths and selectors; of a lane of notes, what they are about
	Stat       string       `json:"stat,omitempty"`   // what is drawn of a window: mean, min, max, p95~ …; mean when empty
	Draw       string       `json:"draw,omitempty"`   // line, steps or points
	NoBand     bool         `json:"no_band,omitempty"`
	Join       bool         `json:"join,omitempty"` // lines go on over gaps
	Difference bool         `json:"difference,omitempty"`
	Calculate  *Calculation `json:"calculate,omitempty"`
	Height     int          `json:"height,omitempty"` // pixels; 0: what the kind has
	Text       string       `json:"text,omitempty"`   // of a lane of text, with links as [words](address)
}

// Calculation is a line that is computed from others.
type Calculation struct {
	Name    string            `json:"name"`
	Formula string            `json:"formula"`
	Inputs  map[string]string `json:"inputs"` // what each name in the formula stands for: a path, or path@stat
	Unit    string            `json:"unit,omitempty"`
}
