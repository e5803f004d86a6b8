package series

import (
	"fmt"
	"slices"
	"strings"
	"unique"
)

// Tiers are the widths of the summaries of a series, from the narrowest to the widest, each a
// multiple of the one before, of which it is made. The zero Tiers are 10s and 1m. Get others from
// MakeTiers or ParseTiers. Equal tiers are ==, and cost a series one pointer.
type Tiers struct {
	all unique.Handle[[MostTiers]Tier] // then zeros; the zero handle stands for usualTiers
}

// usualTiers belong to series that ask for no others.
var usualTiers = []Tier{TenSecond, Minute}

// MakeTiers checks widths.
func MakeTiers(all []Tier) (Tiers, error) {
	if len(all) == 0 || len(all) > MostTiers {
		return Tiers{}, fmt.Errorf("there are %d tiers; list 1 to %d, such as [10s, 1m, 1h]", len(all), MostTiers)
	}
	var list [MostTiers]Tier
	for i, t := range all {
		if t < narrowest || t > widest || t%narrowest != 0 {
			return Tiers{}, fmt.Errorf("tier %s is not possible; use whole seconds, from %s to %s", t, narrowest,
				widest)
		}
		if i > 0 && (t <= list[i-1] || t%list[i-1] != 0) {
			return Tiers{}, fmt.Errorf("tier %s is no multiple of the one before it, %s, of which it is made", t,
				list[i-1])
		}
		list[i] = t
	}
	if slices.Equal(all, usualTiers) {
		return Tiers{}, nil
	}
	return Tiers{unique.Make(list)}, nil
}

// ParseTiers reads widths such as 10s, 1m and 1h.
func ParseTiers(texts []string) (Tiers, error) {
	all := make([]Tier, len(texts))
	for i, text := range texts {
		var err error
		if all[i], err = ParseTier(text); err != nil {
			return Tiers{}, err
		}
	}
	return MakeTiers(all)
}

// All returns the widths, the narrowest first; callers do not change it.
func (t Tiers) All() []Tier {
	if t == (Tiers{}) {
		return usualTiers
	}
	list := t.all.Value()
	for i, one := range list {
		if one == 0 {
			return list[:i]
		}
	}
	return list[:]
}

// Narrowest returns the first.
func (t Tiers) Narrowest() Tier {
	if t == (Tiers{}) {
		return usualTiers[0]
	}
	return t.all.Value()[0]
}

// Texts returns the widths as they are written.
func (t Tiers) Texts() []string { return TierTexts(t.All()) }

// String joins them by commas: 10s,1m,1h.
func (t Tiers) String() string { return strings.Join(t.Texts(), ",") }

// MarshalText returns the tiers as String does.
func (t Tiers) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// UnmarshalText reads what MarshalText returned.
func (t *Tiers) UnmarshalText(text []byte) (err error) {
	*t, err = ParseTiers(strings.Split(string(text), ","))
	return err
}
