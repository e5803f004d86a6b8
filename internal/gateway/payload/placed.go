package payload

import (
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
)

// placedKeys say what a value among others depends on.
type placedKeys struct {
	Optional bool           `yaml:"optional" is:"false" says:"true if a payload may lack this value: then there is no reading and no reject"`
	UnitAt   string         `yaml:"unit_at" says:"place of the value's unit in the payload"`
	OnlyIf   *conditionKeys `yaml:"only_if" says:"take the value only from payloads for which this holds"`
}

type conditionKeys struct {
	At string   `yaml:"at" is:"required" says:"place to compare"`
	Is []string `yaml:"is" is:"required" says:"list of the texts that it may be"`
}

// placed holds the checked conditions of a value.
type placed struct {
	optional bool
	unitAt   string
	only     *condition
}

type condition struct {
	at string
	is []string
}

func (k placedKeys) check(at shape.Place, place func(shape.Place, string) string) placed {
	out := placed{optional: k.Optional}
	if k.UnitAt != "" {
		out.unitAt = place(at.Key("unit_at"), k.UnitAt)
	}
	if k.OnlyIf != nil {
		at := at.Key("only_if")
		out.only = &condition{place(at.Key("at"), k.OnlyIf.At), k.OnlyIf.Is}
		if len(k.OnlyIf.Is) == 0 {
			at.Key("is").Wrong("say of which values it is to be one, such as [1, 2]")
		}
	}
	return out
}

// applies reports whether the condition of a value holds; otherwise it says what the payload has instead.
func (p *placed) applies(find func(place string) (any, error)) (ok bool, instead string) {
	if p.only == nil {
		return true, ""
	}
	found, err := find(p.only.at)
	if err != nil {
		return false, "nothing at " + p.only.at
	}
	text, _ := textIn(found)
	if slices.Contains(p.only.is, text) {
		return true, ""
	}
	return false, fmt.Sprintf("%s at %s", describe(found), p.only.at)
}

// unit adds the unit that the payload says.
func (p *placed) unit(v *value, find func(place string) (any, error)) {
	if p.unitAt == "" || v.err != nil || v.none {
		return
	}
	found, err := find(p.unitAt)
	text, ok := found.(string)
	switch {
	case err != nil:
		v.err = fmt.Errorf("the unit: %w", err)
	case !ok:
		v.err = fmt.Errorf("payload has %s at %s where a unit should be", describe(found), p.unitAt)
	default:
		v.unit = strings.TrimSpace(text)
	}
}

// idle tells that no value of a record applied, and what stood where conditions look.
func idle(instead []string) error {
	slices.Sort(instead)
	return fmt.Errorf("payload has %s, and no values: entry is for that", strings.Join(slices.Compact(instead), ", "))
}
