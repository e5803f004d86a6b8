package config

import "nexocumula/internal/config/shape"

// The shape of the file, as it is written. Everything that needs checking is text
// here; settings.go has what it becomes.

type file struct {
	Data    string       `yaml:"data"`
	Listen  string       `yaml:"listen"`
	TLS     *serverTLS   `yaml:"tls"`
	Open    bool         `yaml:"open"`
	Access  *accessFile  `yaml:"access"`
	Gateway *gatewayFile `yaml:"gateway"`
	Central *centralFile `yaml:"central"`
	Keep    []keepFile   `yaml:"keep"`
	GiveUp  string       `yaml:"give_up_unsent_after"`
	AwayFor string       `yaml:"away_for"`
	Zone    string       `yaml:"zone"`
	Log     logFile      `yaml:"log"`
	Backup  *backupFile  `yaml:"backup"`
	Room    *roomFile    `yaml:"room"`
	Queries queriesFile  `yaml:"queries"`
	Field   fieldFile    `yaml:"field"`
}

type logFile struct {
	Format string `yaml:"format"`
	Level  string `yaml:"level"`
}

type keepFile struct {
	Select string `yaml:"select"`
	Tier   string `yaml:"tier"`
	For    string `yaml:"for"`
}

type queriesFile struct {
	MaxRows   *int   `yaml:"max_rows"`
	MaxSeries *int   `yaml:"max_series"`
	MaxTime   string `yaml:"max_time"`
}

type gatewayFile struct {
	Site    string       `yaml:"site"`
	Console string       `yaml:"console"`
	Pace    paceFile     `yaml:"pace"`
	Series  []seriesFile `yaml:"series"`
	Sources []shape.Part `yaml:"sources"`
	Uplinks []shape.Part `yaml:"uplinks"`
}

type paceFile struct {
	Messages string `yaml:"messages"`
	Polls    string `yaml:"polls"`
}

type seriesFile struct {
	Select      string             `yaml:"select" is:"required" says:"which series; the first rule that names one counts"`
	Kind        string             `yaml:"kind" is:"gauge" says:"gauge, counter, state, bearing"`
	Unit        string             `yaml:"unit" says:"of what is stored; SenML's symbol where there is one"`
	Low         *float64           `yaml:"low" says:"readings below are rejected"`
	High        *float64           `yaml:"high" says:"readings above are rejected"`
	Every       string             `yaml:"every" says:"how often a reading is expected; learned and shown as such without it"`
	FreshFor    string             `yaml:"fresh_for" is:"three times every, or 1m" says:"how long a reading speaks for its series"`
	MaxAhead    string             `yaml:"max_ahead" is:"5m" says:"how far in the future a reading may be"`
	Wrap        float64            `yaml:"wrap" says:"of counters: how many steps there are until it begins again, such as 65536"`
	Labels      map[string]string  `yaml:"labels" says:"key: value"`
	Tiers       []string           `yaml:"tiers" is:"[10s, 1m]" says:"widths of its summaries, each a multiple of the one before; one that is added later is filled from what is there"`
	Sketch      bool               `yaml:"sketch" is:"false" says:"true: percentiles can be estimated where only summaries are kept"`
	States      map[string]float64 `yaml:"states" says:"of states: the value of each name"`
	Normal      normalFile         `yaml:"normal" says:"what is usual; marked, never rejected"`
	Calibration []calibrationFile  `yaml:"calibration" says:"list, the oldest first: how raw values become true ones"`
	Thinning    *thinningFile      `yaml:"thinning" says:"fewer readings are kept than arrive; summaries are of all that arrived"`
	Screens     []screenFile       `yaml:"screens" says:"list: what is not plausible, asked in this order"`
	Discover    *discoverFile      `yaml:"discover" says:"the series are found as they appear, where no other rule names them: kind, unit and names of states are what the first readings say"`
	Derive      *deriveFile        `yaml:"derive" says:"the series is made of others of this gateway, as their readings come"`
}

type discoverFile struct {
	Most *int `yaml:"most" is:"500" says:"how many series are found at most; readings of more are rejected"`
}

type deriveFile struct {
	Formula string            `yaml:"formula" is:"required" says:"over the names of from"`
	From    map[string]string `yaml:"from" is:"required" says:"names in the formula, and the quantity of the same station, or station/quantity, each stands for; perhaps with the unit that the formula is written for: t: air_temp in Cel"`
}

type normalFile struct {
	Inner []*float64 `yaml:"inner" says:"[low, high]: outside of it is unusual; null where there is no end"`
	Outer []*float64 `yaml:"outer" says:"[low, high]: outside of it is critical"`
}

type calibrationFile struct {
	Since      string      `yaml:"since" says:"readings from this time on, RFC 3339; earlier ones keep the calibration before"`
	Scale      *float64    `yaml:"scale" is:"1" says:"raw × scale + offset"`
	Offset     float64     `yaml:"offset" is:"0" says:""`
	Points     [][]float64 `yaml:"points" says:"or two and more [raw, true], with straight lines between them"`
	Polynomial []float64   `yaml:"polynomial" says:"or the coefficients of 1, x, x² …"`
	Range      []*float64  `yaml:"range" is:"that of the points" says:"[low, high] of the raw values it was made for"`
	Outside    string      `yaml:"outside" is:"extend" says:"of these: extend, clamp or reject"`
	UnitIn     string      `yaml:"unit_in" says:"unit of the raw value; a sender that says another is converted"`
	Decimals   *int        `yaml:"decimals" says:"of the calibrated value; the rest is rounded"`
}

type thinningFile struct {
	Method         string  `yaml:"method" is:"required" says:"on_change; deadband: what is near the last value kept goes; or swinging_door: what is near the straight line between two kept"`
	Within         float64 `yaml:"within" is:"0" says:"the error that is allowed, in the unit of the series"`
	Relative       float64 `yaml:"relative" is:"0" says:"of a deadband: or as a share of the last value kept"`
	LongestSilence string  `yaml:"longest_silence" is:"1h" says:"at least one reading of such a time is kept"`
}

type screenFile struct {
	Range    []*float64        `yaml:"range" says:"[low, high] that is plausible"`
	Change   *float64          `yaml:"change" says:"or the greatest plausible change …"`
	Per      string            `yaml:"per" is:"1m" says:"… in this time"`
	StuckFor string            `yaml:"stuck_for" says:"or how long a value can stay exactly the same"`
	Allowed  []string          `yaml:"allowed" says:"or the only values, or names of states, there are"`
	Requires []string          `yaml:"requires" says:"or quantities that must come in the same message"`
	Holds    string            `yaml:"holds" says:"or a formula that must be true of value and of others in the same message"`
	With     map[string]string `yaml:"with" says:"of holds: names in the formula, and the quantity of the same station, or station/quantity, each stands for"`
	Then     string            `yaml:"then" is:"reject" says:"or uncertain: it counts, and the state series PATH/quality says uncertain"`
	Name     string            `yaml:"name" is:"range, change …" says:"by which its rejects are counted"`
}

type centralFile struct {
	Name string `yaml:"name"`

	MaxSeries          *int `yaml:"max_series"`
	MaxSeriesOfGateway *int `yaml:"max_series_of_gateway"`

	Accept  []acceptFile `yaml:"accept"`
	Uplinks []shape.Part `yaml:"uplinks"`
}

type acceptFile struct {
	Gateway      string   `yaml:"gateway"`
	Sites        []string `yaml:"sites"`
	shape.Secret `yaml:",inline"`
}

// SeriesKeys returns the keys of a rule.
func SeriesKeys() []shape.Key { return shape.Keys(&seriesFile{}) }
