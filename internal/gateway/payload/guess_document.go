package payload

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// guessDocument looks at a document.
func guessDocument(v any, form, senml string, label func(string) string) Guess {
	if all, ok := v.([]any); ok {
		if g, ok := guessSenML(all, senml, label); ok {
			return g
		}
	}
	records, at := recordsIn(v)
	if records == nil {
		g := Guess{Form: form}
		walkDocument("", "", v, g.leaf)
		return g
	}
	g := Guess{Form: form, Records: at}
	for _, one := range records[:min(len(records), mostRecords)] {
		walkDocument("", "", one, func(pointer, key string, leaf any) {
			if text, ok := leaf.(string); ok && text != "" && g.Device == "" && slices.Contains(deviceKeys, strings.ToLower(key)) {
				g.Device = pointer
			}
			if pointer != g.Device && !slices.ContainsFunc(g.Values, func(v Guessed) bool { return v.At == pointer }) {
				g.leaf(pointer, key, leaf)
			}
		})
	}
	if around, ok := v.(map[string]any); ok && g.Time == "" { // what is not in a record is looked for around it
		outer := Guess{}
		walkDocument("", "", around, outer.leaf)
		g.Time, g.TimeForm = outer.Time, outer.TimeForm
	}
	return g
}

const mostRecords = 20 // that are looked at

// deviceKeys are what records call the device that they are of.
var deviceKeys = []string{"id", "device", "device_id", "station", "sensor", "node", "name", "who", "unit_id"}

// recordsIn is an array of objects: a document, or the only one in it.
func recordsIn(v any) (records []any, at string) {
	isRecords := func(v any) bool {
		all, ok := v.([]any)
		return ok && len(all) > 0 && !slices.ContainsFunc(all, func(one any) bool { _, object := one.(map[string]any); return !object })
	}
	if isRecords(v) {
		return v.([]any), "/"
	}
	found := 0
	walkDocument("", "", v, func(pointer, _ string, leaf any) {
		if isRecords(leaf) {
			found++
			records, at = leaf.([]any), pointer
		}
	})
	if found != 1 {
		return nil, ""
	}
	return records, at
}

// leaf takes in what stands somewhere in a document.
func (g *Guess) leaf(pointer, key string, leaf any) {
	var sample string
	one := Guessed{At: pointer, Name: level(key)}
	switch leaf := leaf.(type) {
	case float64:
		sample = strconv.FormatFloat(leaf, 'g', -1, 64)
	case json.Number:
		sample = leaf.String()
	case int64:
		sample = strconv.FormatInt(leaf, 10)
	case bool:
		sample, one.Truth = strconv.FormatBool(leaf), true
	case string:
		if form := timeForm(leaf); form != "" {
			if g.Time == "" || isTimeKey(key) {
				g.Time, g.TimeForm = pointer, form
			}
			return
		}
		if !slices.Contains(stateWords, strings.ToLower(leaf)) {
			return // a name, most likely
		}
		sample, one.State = leaf, true
	default:
		return
	}
	if form := timeForm(sample); form != "" && form != "rfc3339" && isTimeKey(key) && (g.Time == "" || g.Time == pointer) {
		g.Time, g.TimeForm = pointer, form
		return
	}
	if one.Sample = clip(sample); len(g.Values) < mostGuessed {
		g.Values = append(g.Values, one)
	}
}

// walkDocument goes through what is no object, in order of its keys.
func walkDocument(pointer, key string, v any, each func(pointer, key string, leaf any)) {
	object, ok := v.(map[string]any)
	if !ok {
		each(pointer, key, v)
		return
	}
	for _, key := range slices.Sorted(maps.Keys(object)) {
		walkDocument(pointer+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(key), key, object[key], each)
	}
}

// withTexts is a CBOR document whose keys are texts, as JSON Pointers write them.
func withTexts(v any) any {
	switch v := plainValue(v).(type) {
	case map[any]any:
		out := map[string]any{}
		for key, one := range v {
			out[fmt.Sprint(key)] = withTexts(one)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, one := range v {
			out[i] = withTexts(one)
		}
		return out
	default:
		return v
	}
}

func guessSenML(records []any, form string, label func(string) string) (g Guess, ok bool) {
	g.Form = form
	base, unit := "", ""
	for _, r := range records {
		record, is := r.(map[string]any)
		if !is {
			return g, false
		}
		field := func(name string) any {
			for key, v := range record {
				if key == name || label != nil && label(key) == name {
					return v
				}
			}
			return nil
		}
		if bn, is := field("bn").(string); is {
			base = bn
		}
		if bu, is := field("bu").(string); is {
			unit = bu
		}
		name, _ := field("n").(string)
		one := Guessed{At: base + name, Name: lastPart(base + name), Unit: unit}
		if u, is := field("u").(string); is {
			one.Unit = u
		}
		text, isText := field("vs").(string)
		truth, isTruth := field("vb").(bool)
		switch v := field("v"); {
		case v != nil:
			one.Sample = fmt.Sprint(v)
		case isText:
			one.Sample, one.State = clip(text), true
		case isTruth:
			one.Sample, one.Truth = strconv.FormatBool(truth), true
		case field("s") != nil || name == "":
			continue // a sum, or only base fields
		default:
			return g, false
		}
		if base+name == "" {
			return g, false
		}
		if len(g.Values) < mostGuessed && !slices.ContainsFunc(g.Values, func(o Guessed) bool { return o.At == one.At }) {
			g.Values = append(g.Values, one)
		}
	}
	return g, len(g.Values) > 0
}

// lastPart is what a SenML name ends with, as a level of a path.
func lastPart(name string) string {
	name = strings.TrimRight(name, senmlSeparators)
	return level(name[strings.LastIndexAny(name, senmlSeparators)+1:])
}

const senmlSeparators = "/:; "

// stateWords are texts that are states, and no names.
var stateWords = []string{"on", "off", "open", "closed", "opening", "closing", "running", "stopped", "resting", "moving", "blocked", "ok", "fault", "alarm", "normal", "auto", "manual", "idle", "active", "high", "low", "full", "empty"}

var timeKeyNames = []string{"at", "t", "ts", "time", "timestamp", "date", "datetime", "when", "measured_at", "sampled_at"}

func isTimeKey(key string) bool { return slices.Contains(timeKeyNames, strings.ToLower(key)) }

// timeForm is how a text is a time of these years, or "".
func timeForm(text string) string {
	if _, err := time.Parse(time.RFC3339, text); err == nil {
		return "rfc3339"
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return ""
	}
	for form, scale := range map[string]float64{"unix_s": 1, "unix_ms": 1e3, "unix_us": 1e6, "unix_ns": 1e9} {
		if s := v / scale; s > 1.4e9 && s < 4.2e9 {
			return form
		}
	}
	return ""
}
