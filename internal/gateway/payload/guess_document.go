package payload

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// guessDocument looks at a document.
func guessDocument(v any, form, senml string, label func(string) string) Guess {
	if all, ok := v.([]any); ok && senml != "" {
		if g, ok := guessSenML(all, senml, label); ok {
			return g
		}
	}
	d := documentGuess{Guess: Guess{Form: form}}
	records, at := recordsIn(v)
	if records == nil {
		d.walk("", "", v)
		return d.finished()
	}
	d.Records = at
	for _, one := range records[:min(len(records), mostRecords)] {
		if row, ok := one.([]any); ok {
			d.row(row)
		} else {
			d.walk("", "", one)
		}
	}
	if around, ok := v.(map[string]any); ok && d.Time == "" { // what is not in a record is looked for around it
		outer := documentGuess{}
		outer.walk("", "", around)
		d.Time, d.how, d.date, d.ofDay = outer.Time, outer.how, outer.date, outer.ofDay
	}
	if d.Device == "" && d.Time == "" && len(records) > 1 {
		d.Device = "{n}" // nothing else tells them apart
	}
	return d.finished()
}

const mostRecords = 20 // that are looked at

// deviceKeys lists the keys under which records name their device.
var deviceKeys = []string{"id", "device", "device_id", "station", "sensor", "node", "name", "who", "unit_id"}

// isName reports whether a key says what something is called, and not what it measures.
func isName(key string) bool {
	key = strings.TrimPrefix(strings.ToLower(key), "@")
	return slices.Contains(deviceKeys, key) || slices.Contains([]string{
		"eui", "mac", "serial", "version", "firmware", "sn", "type", "model", "unit", "units", "uom",
	}, key) ||
		strings.HasSuffix(key, "_id") || strings.HasSuffix(key, "eui") || strings.HasSuffix(key, "_unit")
}

// recordsIn returns an array of objects, or of rows: a document, or the only one in it.
func recordsIn(v any) (records []any, at string) {
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

// isRecords reports whether all items of an array are objects, or rows of the same length that begin with a time.
func isRecords(v any) bool {
	all, ok := v.([]any)
	if !ok || len(all) == 0 {
		return false
	}
	first, rows := all[0].([]any)
	if rows && (len(first) < 2 || !isCounted(first[0])) {
		return false
	}
	return !slices.ContainsFunc(all, func(one any) bool {
		_, object := one.(map[string]any)
		row, isRow := one.([]any)
		return !object && !(rows && isRow && len(row) == len(first))
	})
}

// isCounted reports whether something is a time that is counted from 1970.
func isCounted(v any) bool {
	text, ok := textIn(v)
	return ok && countedForm(text) != ""
}

// documentGuess is a guess that grows as a document is walked through.
type documentGuess struct {
	Guess
	how         guessedTime
	comma       bool
	thousands   string
	date, ofDay struct{ at, text string }
	timesApart  bool // times stand in an array of their own
}

// finished adds what is known at the end only.
func (d *documentGuess) finished() Guess {
	if d.Time == "" && d.date.at != "" && d.ofDay.at != "" {
		if t, ok := whole(d.date.text, d.ofDay.text); ok {
			d.Time, d.how = d.date.at, t
			d.Keys = append(d.Keys, Line{"time_of_day", strconv.Quote(d.ofDay.at)})
		}
	}
	if d.Time != "" {
		d.Keys = append(d.Keys, d.how.keys()...)
		d.doubt(d.how.doubt)
	}
	if d.timesApart {
		d.Values = slices.DeleteFunc(d.Values, func(v Guessed) bool { return v.ItemsOf })
	}
	if d.comma {
		d.Keys = append(d.Keys, Line{"decimal", "comma"})
	}
	if d.thousands != "" {
		d.Keys = append(d.Keys, Line{"thousands", d.thousands})
	}
	return d.Guess
}

func (d *documentGuess) doubt(text string) {
	if d.Doubt == "" {
		d.Doubt = text
	}
}

// walk goes through a document, or a record.
func (d *documentGuess) walk(pointer, key string, v any) {
	if text, ok := v.(string); ok {
		if document := inner(text); document != any(text) {
			v = document
		}
	}
	if object, ok := v.(map[string]any); ok {
		for _, key := range slices.Sorted(maps.Keys(object)) {
			d.in(object, pointer+"/"+escaped(key), key)
		}
		return
	}
	if all, ok := v.([]any); ok {
		d.array(pointer, key, all)
		return
	}
	d.leaf(pointer, key, v)
}

var pointerEscapes = strings.NewReplacer("~", "~0", "/", "~1")

func escaped(key string) string { return pointerEscapes.Replace(key) }

// in looks at a member of an object, with what stands beside it.
func (d *documentGuess) in(object map[string]any, pointer, key string) {
	if text, ok := object[key].(string); ok && text != "" && d.Device == "" && d.Records != "" &&
		(slices.Contains(deviceKeys, strings.TrimPrefix(strings.ToLower(key), "@"))) {
		d.Device = pointer
	}
	if pointer == d.Device || slices.ContainsFunc(d.Values, func(v Guessed) bool { return v.At == pointer }) {
		return
	}
	before := len(d.Values)
	name := key
	if key == elementText {
		name = pointer[:strings.LastIndexByte(pointer, '/')]
		name = name[strings.LastIndexByte(name, '/')+1:]
	}
	d.walk(pointer, name, object[key])
	if len(d.Values) != before+1 || d.Values[before].At != pointer {
		return
	}
	unit := map[string]bool{
		"value":     true,
		"val":       true,
		"v":         true,
		"reading":   true,
		elementText: true,
	}[strings.ToLower(key)]
	if at := strings.LastIndexByte(pointer, '/'); unit {
		for _, beside := range []string{"unit", "units", "uom", "@unit", "@units", "@uom"} {
			if text, ok := object[beside].(string); ok && text != "" {
				d.Values[before].Unit = text
				d.Values[before].Keys = append(d.Values[before].Keys,
					Line{"unit_at", strconv.Quote(pointer[:at] + "/" + beside)})
				break
			}
		}
		if parent := pointer[:at]; parent != "" { // a value is called as what it is of
			d.Values[before].Name = level(parent[strings.LastIndexByte(parent, '/')+1:])
		}
	}
}

// mostItems is how long an array is that may hold places; a longer one is rather samples.
const mostItems = 64

// array looks at an array that is no records.
func (d *documentGuess) array(pointer, key string, all []any) {
	if len(all) > 1 && isTimeKey(key) && isCounted(all[0]) {
		d.timesApart = true
	}
	if len(all) == 0 || len(all) > mostItems || d.timesApart {
		return
	}
	trial := documentGuess{}
	for _, item := range all {
		trial.leaf(pointer, key, item)
	}
	if len(trial.Values) != len(all) {
		return
	}
	one := trial.Values[0]
	one.ItemsOf, one.Name = true, level(key)
	if pointer == "" {
		one.At, one.Name = "/", "value"
	}
	for _, v := range trial.Values[1:] {
		if len(v.Keys) != 0 || v.State != one.State {
			return
		}
	}
	d.comma, d.thousands = d.comma || trial.comma, trial.thousands+d.thousands
	d.doubt("an array is taken for several places, and not for several times")
	d.Values = append(d.Values, one)
}

// row looks at a record that is an array.
func (d *documentGuess) row(row []any) {
	for i, item := range row {
		at := "/" + strconv.Itoa(i)
		if !slices.ContainsFunc(d.Values, func(v Guessed) bool { return v.At == at }) {
			d.leaf(at, fmt.Sprintf("column_%d", i+1), item)
		}
	}
}

// leaf takes in what stands somewhere in a document.
func (d *documentGuess) leaf(pointer, key string, leaf any) {
	one := Guessed{At: pointer, Name: level(key)}
	text, _ := textIn(leaf)
	switch leaf := leaf.(type) {
	case nil:
		one.Keys = []Line{{"not_available", `[""]`}}
	case float64, json.Number, int64:
		if form := countedForm(text); form != "" && isTimeKey(lastKey(pointer, key)) &&
			(d.Time == "" || d.Time == pointer) {
			d.Time, d.how = pointer, guessedTime{form: form}
			return
		}
		if standsForNone(text) {
			one.Keys = []Line{noneLine(text)}
			d.doubt(text + " was taken for none")
		}
	case bool:
		one.Truth = true
	case string:
		if !d.text(&one, pointer, key, leaf) {
			return
		}
		text = one.Sample
	default:
		return
	}
	if one.Sample = clip(text); len(d.Values) < mostGuessed {
		d.Values = append(d.Values, one)
	}
}

// lastKey returns what a leaf is called: in rows, by its number.
func lastKey(pointer, key string) string {
	if pointer == "/0" {
		return "time"
	}
	return key
}

// text looks at a text: it is a value, or else a time or a name.
func (d *documentGuess) text(one *Guessed, pointer, key, text string) bool {
	if t, ok := timeGuess(text); ok && (countedForm(text) == "" || isTimeKey(key)) {
		if d.Time == "" || isTimeKey(key) {
			d.Time, d.how = pointer, t
		}
		return false
	}
	switch {
	case dateAlone.MatchString(text):
		d.date.at, d.date.text = pointer, text
		return false
	case ofDayAlone.MatchString(text):
		d.ofDay.at, d.ofDay.text = pointer, text
		return false
	case isName(key):
		return false
	case isNoneWord(text):
		one.Sample, one.Keys = text, []Line{noneLine(text)}
		return true
	case slices.Contains(stateWords, strings.ToLower(text)):
		one.Sample, one.State, one.Keys = text, true, []Line{{"state", "true"}}
		return true
	}
	n, ok := numberGuess(text)
	if !ok || len(text) > 1 && text[0] == '0' && text[1] >= '0' && text[1] <= '9' || len(text) > 24 {
		return false // a name, most likely
	}
	_, one.Keys = n.keys()
	one.Sample, one.Unit = n.sample, n.unit
	d.comma = d.comma || n.comma
	if n.thousands != "" {
		d.thousands = n.thousands
	}
	d.doubt(n.doubt)
	return true
}

// walkDocument goes through what is no object, in order of its keys.
func walkDocument(pointer, key string, v any, each func(pointer, key string, leaf any)) {
	object, ok := v.(map[string]any)
	if !ok {
		each(pointer, key, v)
		return
	}
	for _, key := range slices.Sorted(maps.Keys(object)) {
		walkDocument(pointer+"/"+escaped(key), key, object[key], each)
	}
}

// withTexts returns a CBOR document whose keys are texts, as JSON Pointers write them.
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
		if len(g.Values) < mostGuessed && !slices.ContainsFunc(g.Values,
			func(o Guessed) bool { return o.At == one.At }) {
			g.Values = append(g.Values, one)
		}
	}
	return g, len(g.Values) > 0
}

// lastPart returns the last part of a SenML name as a level of a path.
func lastPart(name string) string {
	name = strings.TrimRight(name, senmlSeparators)
	return level(name[strings.LastIndexAny(name, senmlSeparators)+1:])
}

const senmlSeparators = "/:; "

// stateWords are texts that are states, and no names.
var stateWords = []string{
	"on", "off", "open", "closed", "opening", "closing", "running", "stopped", "resting", "moving", "blocked", "ok",
	"fault", "alarm", "normal", "auto", "manual", "idle", "active", "high", "low", "full", "empty",
}
