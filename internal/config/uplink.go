package config

import (
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/request"
	"nexocumula/internal/core/series"
)

// Kinds are the kinds of what a configuration names. Each owns the shape of its part of the file.
type Kinds struct {
	Sources []SourceKind
	Uplinks []UplinkKind
}

// Uplink sends what a store holds to another place.
type Uplink struct {
	Name     string
	Select   []series.Selector // what it sends of what may be sent; nil: all
	Tiers    []series.Tier     // that it sends; nil: all there are
	Records  []string          // kinds of records that it sends; nil: all there are
	Order    marks.Order       // in which what waits is sent, beside what is new
	Limits   Limits
	Allow    []string // kinds of requests that are carried out for whom it sends to
	Kind     string   // its key
	Settings any      // of its kind
	Print    string   // another when anything of it is another
}

// Sends reports whether it sends a series.
func (u *Uplink) Sends(path series.Path) bool {
	return u.Select == nil || slices.ContainsFunc(u.Select, func(s series.Selector) bool { return s.Match(path) })
}

// SendsTier reports whether it sends summaries of a tier.
func (u *Uplink) SendsTier(t series.Tier) bool { return u.Tiers == nil || slices.Contains(u.Tiers, t) }

// SendsAbout reports whether it sends records about a place.
func (u *Uplink) SendsAbout(place string) bool {
	return u.Select == nil || slices.ContainsFunc(u.Select, func(s series.Selector) bool { return s.Touches(place) })
}

// Selects returns the selectors as text, to see when they change; "" when there are none.
func (u *Uplink) Selects() string {
	var texts []string
	for _, s := range u.Select {
		texts = append(texts, s.String())
	}
	return strings.Join(texts, ",")
}

// UplinkKind is a way to send. One of them has no key: its keys stand beside those of every uplink.
type UplinkKind struct {
	Key   string                            // of its part
	Says  string                            // for people
	Shape func() any                        // a new struct to fill it into
	Check func(at shape.Place, raw any) any // what it becomes
}

// uplinkFile has the keys of every uplink.
type uplinkFile struct {
	Name    string      `yaml:"name" is:"required" says:"by which people know it"`
	Select  []string    `yaml:"select" is:"everything" says:"selectors of the series that it sends"`
	Tiers   []string    `yaml:"tiers" is:"all there are" says:"widths of the summaries that it sends, such as [1m] on a thin link: the central then has no others"`
	Records []string    `yaml:"records" is:"all" says:"kinds of records that it sends: notes, gaps"`
	Order   string      `yaml:"order" is:"series" says:"in which what waited goes, beside what is new: newest or oldest hours first, widest tiers first, or series by series, which needs the fewest bytes"`
	Limits  *limitsFile `yaml:"limits" says:"how much of the link it may use"`
	Allow   []string    `yaml:"allow" is:"[readings, read, reconcile]" says:"kinds of requests that are carried out for whom it sends to: readings, read, reconcile, notes; [] for none"`
}

// UplinkKeys returns the keys of every uplink.
func UplinkKeys() []shape.Key { return shape.Keys(&uplinkFile{}) }

func uplinks(parts []shape.Part, kinds []UplinkKind) (out []Uplink) {
	var names []string
	for _, part := range parts {
		one := uplinkOf(part, kinds)
		names = unique(part.Key("name"), one.Name, names)
		out = append(out, one)
	}
	return out
}

func uplinkOf(part shape.Part, kinds []UplinkKind) Uplink {
	raw, keys := uplinkFile{}, map[string]any{}
	var given []UplinkKind
	var names []string
	var beside UplinkKind
	for _, k := range kinds {
		if k.Key == "" {
			beside = k
			continue
		}
		keys[k.Key], names = k.Shape(), append(names, k.Key)
		if _, there := part.Text(k.Key); there {
			given = append(given, k)
		}
	}
	out, structs := Uplink{}, []any{&raw}
	var own any
	if len(given) == 0 {
		own = beside.Shape()
		structs = append(structs, own)
	}
	part.Fill(keys, structs...)
	switch len(given) {
	case 0:
		out.Settings = beside.Check(part.Place, own)
	case 1:
		out.Kind, out.Settings = given[0].Key, given[0].Check(part.Key(given[0].Key), keys[given[0].Key])
	default:
		slices.Sort(names)
		part.Wrong("uplink %q has %d of these keys and can have one: %s", raw.Name, len(given),
			strings.Join(names, ", "))
	}
	out.Name, out.Print = raw.Name, part.Print()
	if raw.Tiers != nil {
		out.Tiers = shape.Parsed(part.Key("tiers"), raw.Tiers, series.ParseTiers).All()
	}
	for i, text := range raw.Select {
		out.Select = append(out.Select, shape.Parsed(part.Key("select").Item(i), text, series.ParseSelector))
	}
	if raw.Order != "" {
		out.Order = shape.Parsed(part.Key("order"), raw.Order, marks.ParseOrder)
	}
	if out.Kind != "" && raw.Order != "" {
		part.Key("order").Wrong("order is for uplinks to a central; others send in the order of time")
	}
	out.Limits = raw.Limits.check(part.Key("limits"))
	if out.Kind != "" && out.Limits.Any() {
		part.Key("limits").Wrong("limits are for uplinks to a central")
	}
	out.Records = some(part.Key("records"), raw.Records, recordKinds, nil)
	out.Allow = some(part.Key("allow"), raw.Allow, request.Kinds(), request.Harmless())
	return out
}

// recordKinds are the kinds of records that an uplink need not send.
var recordKinds = []string{"notes", "gaps"}

// some checks a list of some of what there is.
func some(at shape.Place, given, all, otherwise []string) []string {
	if given == nil {
		return otherwise
	}
	for i, one := range given {
		if !slices.Contains(all, one) {
			at.Item(i).Wrong("%q is not one of %s", one, strings.Join(all, ", "))
		}
	}
	return given
}
