package sparkplug

import (
	"fmt"
	"strings"

	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
	"nexocumula/internal/gateway/sparkplug/wire"
)

// The data types of metrics that become readings (Sparkplug 3.0.0, 6.4.16).
const (
	int8T, int16T, int32T, int64T     = 1, 2, 3, 4
	uint8T, uint16T, uint32T, uint64T = 5, 6, 7, 8
	floatT, doubleT                   = 9, 10
	boolean                           = 11
	stringT, dateTimeT, textT         = 12, 13, 14
)

// typeNames are the names of the other types, for people.
var typeNames = map[uint32]string{
	15: "a UUID", 16: "a data set", 17: "bytes", 18: "a file", 19: "a template", 20: "a set of properties", 21: "a list of sets of properties",
	22: "an Int8Array", 23: "an Int16Array", 24: "an Int32Array", 25: "an Int64Array", 26: "a UInt8Array", 27: "a UInt16Array", 28: "a UInt32Array",
	29: "a UInt64Array", 30: "a FloatArray", 31: "a DoubleArray", 32: "a BooleanArray", 33: "a StringArray", 34: "a DateTimeArray",
}

func typeName(datatype uint32) string {
	if name, ok := typeNames[datatype]; ok {
		return name
	}
	return fmt.Sprintf("of a type that is not known here, %d", datatype)
}

func measures(datatype uint32) bool { return datatype >= int8T && datatype <= textT }

// metric is one that a birth named.
type metric struct {
	name      string
	datatype  uint32
	path      series.Path // "": left out
	calibrate calibrate.Curve
	unit      string // as its birth said it, if it is one
}

// engineeringUnit is the property that says a metric's unit (Sparkplug 3.0.0, 6.4.11).
const engineeringUnit = "engUnit"

// unitOf returns the symbol of the unit that a birth says of a metric; "" where it says none, or none that is known.
func unitOf(m *wire.Metric) string {
	set := m.GetProperties()
	for i, key := range set.GetKeys() {
		if values := set.GetValues(); key == engineeringUnit && i < len(values) && !values[i].GetIsNull() {
			return unit.Known(values[i].GetStringValue())
		}
	}
	return ""
}

// catalogue holds the metrics that a node or a device named at its birth.
type catalogue struct {
	online  bool
	metrics int // that its birth named
	byName  map[string]*metric
	byAlias map[uint64]*metric
}

func newCatalogue() *catalogue {
	return &catalogue{online: true, byName: map[string]*metric{}, byAlias: map[uint64]*metric{}}
}

// find returns the metric that is meant; a message names it, or its alias.
func (c *catalogue) find(m *wire.Metric) (*metric, error) {
	if m.Name != nil && *m.Name != "" {
		if found := c.byName[*m.Name]; found != nil {
			return found, nil
		}
		return nil, fmt.Errorf("the birth did not name the metric %q", clip(*m.Name))
	}
	if m.Alias == nil {
		return nil, fmt.Errorf("a metric has neither name nor alias")
	}
	if found := c.byAlias[*m.Alias]; found != nil {
		return found, nil
	}
	return nil, fmt.Errorf("the birth did not say what alias %d stands for", *m.Alias)
}

// number returns the value of a metric. Signed integers come as unsigned ones in two's complement.
func number(m *wire.Metric, datatype uint32) (float64, error) {
	switch v := m.Value.(type) {
	case *wire.Metric_IntValue:
		switch datatype {
		case int8T, int16T, int32T:
			return float64(int32(v.IntValue)), nil
		case int64T:
			return float64(int64(v.IntValue)), nil
		}
		return float64(v.IntValue), nil
	case *wire.Metric_LongValue:
		switch datatype {
		case int8T, int16T, int32T, int64T:
			return float64(int64(v.LongValue)), nil
		case dateTimeT:
			return float64(v.LongValue) / 1000, nil // seconds since 1970
		}
		return float64(v.LongValue), nil
	case *wire.Metric_FloatValue:
		return float64(v.FloatValue), nil
	case *wire.Metric_DoubleValue:
		return v.DoubleValue, nil
	case *wire.Metric_BooleanValue:
		if v.BooleanValue {
			return 1, nil
		}
		return 0, nil
	case nil:
		return 0, fmt.Errorf("has no value, and does not say that it has none")
	}
	return 0, fmt.Errorf("has a value of another type than its birth said")
}

// level makes levels of a path of a name, whose parts / divides.
func level(name string) string {
	parts := strings.Split(name, "/")
	for i := range parts {
		parts[i] = series.CleanLevel(parts[i])
	}
	return strings.Join(parts, "/")
}

func clip(text string) string {
	if len(text) > 80 {
		return text[:80] + "…"
	}
	return text
}

// about reports whether a metric is about the node and its control, and measures nothing.
func about(name string) bool {
	return name == "bdSeq" || strings.HasPrefix(name, "Node Control/") || strings.HasPrefix(name, "Device Control/") ||
		strings.HasPrefix(name, "Node Info/") || strings.HasPrefix(name, "Properties/")
}
