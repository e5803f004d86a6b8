package sparkplug

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/source/sourcetest"
	"nexocumula/internal/gateway/sparkplug/wire"
)

func settingsOf(t testing.TB, text string) (*Settings, error) {
	var raw *Keys = &Keys{}
	f, at, err := shape.Read("s.yaml", []byte(text), raw)
	require.NoError(t, err)
	return raw.Check(at, "long-mere"), f.Err()
}

// edge is an edge node that counts as it should.
type edge struct {
	t    *testing.T
	host *Host
	seq  uint64
	at   int64
}

func newEdge(t *testing.T, config string) *edge {
	s, err := settingsOf(t, config)
	require.NoError(t, err)
	return &edge{t: t, host: NewHost("buoys", s), at: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC).UnixNano()}
}

func (e *edge) send(kind, device string, metrics ...*wire.Metric) Taken {
	p := &wire.Payload{Timestamp: proto.Uint64(uint64(e.at / 1e6)), Metrics: metrics}
	if kind == "NBIRTH" {
		e.seq = 0
	}
	if kind != "NDEATH" {
		p.Seq = proto.Uint64(e.seq % 256)
		e.seq++
	}
	body, err := proto.Marshal(p)
	require.NoError(e.t, err)
	topic := "spBv1.0/mere/" + kind + "/gate"
	if device != "" {
		topic += "/" + device
	}
	return e.host.Take(topic, body, e.at)
}

func named(name string, alias uint64, datatype uint32, value any) *wire.Metric {
	m := aliased(alias, value)
	m.Name, m.Datatype = proto.String(name), proto.Uint32(datatype)
	return m
}

func aliased(alias uint64, value any) *wire.Metric {
	m := &wire.Metric{Alias: proto.Uint64(alias)}
	switch v := value.(type) {
	case uint32:
		m.Value = &wire.Metric_IntValue{IntValue: v}
	case uint64:
		m.Value = &wire.Metric_LongValue{LongValue: v}
	case float32:
		m.Value = &wire.Metric_FloatValue{FloatValue: v}
	case float64:
		m.Value = &wire.Metric_DoubleValue{DoubleValue: v}
	case bool:
		m.Value = &wire.Metric_BooleanValue{BooleanValue: v}
	case string:
		m.Value = &wire.Metric_StringValue{StringValue: v}
	case nil:
		m.IsNull = proto.Bool(true)
	}
	return m
}

func valuesOf(readings []reading.Reading) map[string]any {
	out := map[string]any{}
	for _, r := range readings {
		out[string(r.Path)] = r.Value
		if r.Text != "" {
			out[string(r.Path)] = r.Text
		}
	}
	return out
}

func TestABirthSaysTheUnitsOfItsMetrics(t *testing.T) {
	e := newEdge(t, "{ metrics: [{ name: Flow, series: '{node}/flow', scale: 0.1 }] }")
	e.send("NBIRTH", "", named("bdSeq", 0, int64T, uint64(3)))
	in := func(m *wire.Metric, key, unit string) *wire.Metric {
		m.Properties = &wire.PropertySet{
			Keys: []string{"Quality", key}, Values: []*wire.PropertyValue{{}, {StringValue: proto.String(unit)}},
		}
		return m
	}
	got := e.send("DBIRTH", "buoy-1", in(named("temp", 1, doubleT, 4.25), "engUnit", "°C"), in(named("volts", 2,
		doubleT, 12.5),
		"engUnit", "mV"),
		in(named("odd", 3, doubleT, 1.0), "engUnit", "furlongs"), in(named("other", 4, doubleT, 1.0), "Description",
			"mV"), in(named("Flow", 5, doubleT, 912.0), "engUnit", "l/s"))
	units := map[string]string{}
	for _, r := range append(got.Readings, e.send("DDATA", "buoy-1", aliased(1, 4.5)).Readings...) {
		units[string(r.Path)] = r.Unit
	}
	assert.Equal(t, map[string]string{
		"long-mere/buoy-1/temp": "Cel", "long-mere/buoy-1/volts": "mV", "long-mere/buoy-1/odd": "", "long-mere/buoy-1/other": "", "long-mere/gate/flow": "",
	}, units)
}

func TestEveryTypeOfMetricBecomesAReading(t *testing.T) {
	e := newEdge(t, "{ metrics: [{ name: Flow, series: '{node}/flow', scale: 0.1 }, { name: Serial, skip: true }] }")
	assert.Empty(t,
		e.send("NBIRTH", "", named("bdSeq", 0, int64T, uint64(3)), named("Node Control/Rebirth", 1, boolean, false)).Readings)
	minus := func(n int32) uint32 { return uint32(n) }
	got := e.send("DBIRTH", "buoy-1",
		named("i8", 1, int8T, minus(-5)), named("i16", 2, int16T, minus(-300)), named("i32", 3, int32T, minus(-70000)), named("i64",
			4, int64T, uint64(math.MaxUint64-8)),
		named("u8", 5, uint8T, uint32(200)), named("u32", 6, uint32T, uint32(4e9)), named("u64", 7, uint64T,
			uint64(1)<<40),
		named("Water/Temp °C", 8, floatT, float32(4.25)), named("d", 9, doubleT, 0.1), named("on", 10, boolean, true), named("gate",
			11, stringT, "open"),
		named("when", 12, dateTimeT, uint64(1772352000500)), named("none", 13, doubleT, nil), named("Flow", 14,
			doubleT, 912.0), named("Serial", 15, stringT, "A-7"))
	assert.Empty(t, got.Rejects)
	assert.Equal(t, map[string]any{
		"long-mere/buoy-1/i8": -5.0, "long-mere/buoy-1/i16": -300.0, "long-mere/buoy-1/i32": -70000.0, "long-mere/buoy-1/i64": -9.0,
		"long-mere/buoy-1/u8": 200.0, "long-mere/buoy-1/u32": 4e9, "long-mere/buoy-1/u64": float64(1 << 40), "long-mere/buoy-1/Water/Temp_C": 4.25,
		"long-mere/buoy-1/d": 0.1, "long-mere/buoy-1/on": 1.0, "long-mere/buoy-1/gate": "open", "long-mere/buoy-1/when": 1772352000.5, "long-mere/gate/flow": 91.2,
	}, valuesOf(got.Readings))
	assert.Equal(t, e.at, got.Readings[0].Time)

	later := aliased(1, uint32(7))
	later.Timestamp = proto.Uint64(1772352123456)
	got = e.send("DDATA", "buoy-1", later, aliased(14, 100.0))
	assert.Equal(t, map[string]any{"long-mere/buoy-1/i8": 7.0, "long-mere/gate/flow": 10.0}, valuesOf(got.Readings))
	assert.EqualValues(t, 1772352123456_000000, got.Readings[0].Time)
	got = e.send("DDATA", "buoy-1", aliased(99, 1.0), aliased(1, "text"))
	require.Len(t, got.Rejects, 1)
	assert.Contains(t, got.Rejects[0].Reason, "the birth did not say what alias 99 stands for")
}

func TestMissingMessagesAskForABirth(t *testing.T) {
	e := newEdge(t, "{}")
	got := e.send("NDATA", "", aliased(1, 1.0))
	assert.Contains(t, got.Rejects[0].Reason, "its birth has not come yet")
	require.Len(t, got.Send, 1)
	assert.Equal(t, "spBv1.0/mere/NCMD/gate", got.Send[0].Topic)
	var command wire.Payload
	require.NoError(t, proto.Unmarshal(got.Send[0].Payload, &command))
	assert.Equal(t, "Node Control/Rebirth", command.Metrics[0].GetName())
	assert.True(t, command.Metrics[0].GetBooleanValue())
	assert.Empty(t, e.send("NDATA", "", aliased(1, 1.0)).Send, "it is not asked over and over")

	e.at += int64(time.Minute)
	e.send("NBIRTH", "", named("level", 1, doubleT, 1.0))
	for range 600 { // the number goes round at 256
		got = e.send("NDATA", "", aliased(1, 2.0))
		require.Empty(t, got.Faults)
		require.Len(t, got.Readings, 1)
	}
	e.seq += 3
	got = e.send("NDATA", "", aliased(1, 3.0))
	assert.Len(t, got.Readings, 1, "what came counts all the same")
	assert.Contains(t, got.Faults[0], "some are missing; it is asked to be born again")
	assert.Len(t, got.Send, 1)
	assert.Empty(t, e.send("NDATA", "", aliased(1, 3.0)).Faults, "one gap is told once")
	e.seq += 3
	got = e.send("NDATA", "", aliased(1, 3.0))
	assert.Contains(t, got.Faults[0], "it was asked to be born again a moment ago")
	assert.Empty(t, got.Send, "not again so soon")
}

func TestBirthsAndDeathsArePresence(t *testing.T) {
	e := newEdge(t, "{ presence: '{device}/online', node_presence: '{node}/online' }")
	death := func(n uint64) Taken { return e.send("NDEATH", "", named("bdSeq", 0, int64T, n)) }
	got := e.send("NBIRTH", "", named("bdSeq", 0, int64T, uint64(7)))
	assert.Equal(t, map[string]any{"long-mere/gate/online": 1.0}, valuesOf(got.Readings))
	assert.Equal(t, map[string]any{"long-mere/buoy-1/online": 1.0}, valuesOf(e.send("DBIRTH", "buoy-1").Readings))
	e.send("DBIRTH", "buoy-2")
	assert.Empty(t, death(6).Readings, "a death that belongs to an earlier connection")
	assert.Equal(t, map[string]any{"long-mere/buoy-2/online": 0.0}, valuesOf(e.send("DDEATH", "buoy-2").Readings))
	assert.Empty(t, e.send("DDEATH", "buoy-2").Readings)
	assert.Contains(t, e.send("DDATA", "buoy-2", aliased(1, 1.0)).Faults[0], "data came before a birth")
	assert.Equal(t, map[string]any{
		"long-mere/gate/online":   1.0,
		"long-mere/buoy-1/online": 1.0,
		"long-mere/buoy-2/online": 0.0,
	}, valuesOf(e.host.Present(e.at).Readings))
	assert.Equal(t, map[string]any{"long-mere/gate/online": 0.0, "long-mere/buoy-1/online": 0.0},
		valuesOf(death(7).Readings))
	assert.Empty(t, death(7).Readings)
}

func TestADeathEndsWhatWasMeasured(t *testing.T) {
	e := newEdge(t, "{ metrics: [{ name: Serial, skip: true }] }")
	e.send("NBIRTH", "", named("bdSeq", 0, int64T, uint64(7)), named("load", 1, doubleT, 1.0))
	e.send("DBIRTH", "buoy-1", named("temp", 2, doubleT, 4.0), named("Serial", 3, stringT, "A-7"))
	e.send("DBIRTH", "buoy-2", named("temp", 4, doubleT, 5.0))
	assert.Equal(t, []series.Path{"long-mere/buoy-1/temp"}, e.send("DDEATH", "buoy-1").Ended)
	ended := e.send("NDEATH", "", named("bdSeq", 0, int64T, uint64(7))).Ended
	assert.ElementsMatch(t, []series.Path{"long-mere/gate/load", "long-mere/buoy-2/temp"}, ended,
		"what is behind it ends with it")
}

func TestWhatCannotBeUsedIsRefusedWithTheReason(t *testing.T) {
	e := newEdge(t, "{ group: mere }")
	for topic, wrong := range map[string]string{
		"spBv1.0/mere/NCMD/gate": "the topic is none of Sparkplug's", "spBv1.0/mere/DDATA/gate": "the topic is none", "spBv1.0/mere/NDATA/gate/x": "the topic is none",
		"spBv1.0": "the topic is none", "spBv1.0/other/NDATA/gate": `group "other" is not the one that is collected`,
	} {
		assert.Contains(t, e.host.Take(topic, nil, e.at).Rejects[0].Reason, wrong, topic)
	}
	assert.Contains(t, e.host.Take("spBv1.0/mere/NDATA/gate", []byte{0xff, 1}, e.at).Rejects[0].Reason,
		"the payload is none of Sparkplug B's")
	got := e.send("NBIRTH", "", named("a b", 1, doubleT, 1.0), named("a_b", 2, doubleT, 2.0), named("set", 3, 16, nil),
		named("", 4, doubleT, 1.0), named("type", 5, int8T, uint64(1)), named("..", 6, doubleT, 1.0))
	var reasons []string
	for _, r := range got.Rejects {
		reasons = append(reasons, r.Reason)
	}
	text := strings.Join(reasons, "\n")
	assert.Contains(t, text, `metric "a_b": its series would be long-mere/gate/a_b, which is that of "a b"`)
	assert.NotContains(t, text, `"set"`, "what measures nothing is no mistake of the node's")
	assert.Equal(t, 1, got.Ignored)
	assert.Contains(t, text, "a metric of the birth has no name")
	assert.Contains(t, text, `metric "..":`)
	assert.Equal(t, map[string]any{"long-mere/gate/a_b": 1.0, "long-mere/gate/type": 1.0}, valuesOf(got.Readings))

	for text, wrong := range map[string]string{
		"{ host: a/b }": `"a/b" is no id of Sparkplug`, "{ series: '{buoy}/x' }": "{buoy}", "{ metrics: [{ name: a }, { name: a }] }": `the metric "a" is there twice`, "{ metrics: [{ series: a/b }] }": "say which metric",
	} {
		_, err := settingsOf(t, text)
		assert.ErrorContains(t, err, wrong, text)
	}
}

func TestTheHostSaysThatItIsThere(t *testing.T) {
	e := newEdge(t, "{ host: office }")
	at := time.UnixMilli(1772352000123)
	var said map[string]any
	up, down := e.host.State(true, at), e.host.State(false, at)
	assert.Equal(t, "spBv1.0/STATE/office", up.Topic)
	require.NoError(t, json.Unmarshal(up.Payload, &said))
	assert.Equal(t, map[string]any{"online": true, "timestamp": 1772352000123.0}, said)
	assert.True(t, up.Retain)
	require.Len(t, e.host.Take(down.Topic, down.Payload, e.at).Send, 1, "a death of an earlier connection came late")
	assert.Empty(t, e.host.Take(up.Topic, up.Payload, e.at).Send)
	assert.Empty(t, e.host.Take("spBv1.0/STATE/other", down.Payload, e.at).Send)
}

func FuzzPayloadsAndTopics(f *testing.F) {
	body, err := proto.Marshal(&wire.Payload{
		Timestamp: proto.Uint64(1),
		Seq:       proto.Uint64(0),
		Metrics:   []*wire.Metric{named("a", 1, doubleT, 1.0), aliased(1, "x")},
	})
	require.NoError(f, err)
	for _, kind := range []string{"NBIRTH/n", "NDATA/n", "NDEATH/n", "DBIRTH/n/d", "DDATA/n/d", "DDEATH/n/d"} {
		f.Add("spBv1.0/g/"+kind, body)
	}
	s, err := settingsOf(f, "{ presence: '{device}/online', node_presence: '{node}/online' }")
	require.NoError(f, err)
	host := NewHost("fuzz", s)
	f.Fuzz(func(t *testing.T, topic string, body []byte) {
		got := host.Take(topic, body, 1772352000_000000000)
		for _, r := range got.Readings {
			require.NotEmpty(t, r.Path)
		}
		require.LessOrEqual(t, len(got.Rejects), mostRejects)
	})
}

func TestNoHostilePayloadHarmsTheHost(t *testing.T) {
	body, err := proto.Marshal(&wire.Payload{
		Timestamp: proto.Uint64(1),
		Seq:       proto.Uint64(0),
		Metrics:   []*wire.Metric{named("a", 1, doubleT, 1.0), named("b/c", 2, int16T, uint32(7)), aliased(1, "x")},
	})
	require.NoError(t, err)
	s, err := settingsOf(t, "{ presence: '{device}/online' }")
	require.NoError(t, err)
	host := NewHost("hostile", s)
	kinds := []string{"NBIRTH/n", "NDATA/n", "NDEATH/n", "DBIRTH/n/d", "DDATA/n/d", "DDEATH/n/d"}
	good := make([][]byte, len(kinds))
	for i := range good {
		good[i] = body
	}
	sourcetest.Hostile(t, good, func(which int, input []byte) {
		got := host.Take("spBv1.0/g/"+kinds[which], input, 1772352000_000000000)
		require.LessOrEqual(t, len(got.Rejects), mostRejects)
	})
}

func TestTypesAreNamed(t *testing.T) {
	for datatype, name := range map[uint32]string{
		16: "a data set",
		19: "a template",
		22: "an Int8Array",
		30: "a FloatArray",
		34: "a DateTimeArray",
		0:  "not known here, 0",
		99: "not known here, 99",
	} {
		assert.Contains(t, typeName(datatype), name)
	}
	e := newEdge(t, "{ group: mere, metrics: [{ name: waves, series: '{node}/waves' }] }")
	got := e.send("NBIRTH", "", named("waves", 1, 30, nil))
	assert.Contains(t, got.Rejects[0].Reason, `metric "waves": it is a FloatArray, which measures nothing`,
		"a rule wants it")
}
