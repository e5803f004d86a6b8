package decode

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
)

func TestTopicsBindTheirNames(t *testing.T) {
	topic, err := ParseTopic("cage/+/{cage}/{quantity}/#")
	require.NoError(t, err)
	assert.Equal(t, "cage/+/+/+/#", topic.Filter())
	assert.Equal(t, []string{"cage", "quantity"}, topic.Names())
	bound, ok := topic.Match("cage/north/c7/oxygen/raw")
	assert.True(t, ok)
	assert.Equal(t, map[string]string{"cage": "c7", "quantity": "oxygen"}, bound)
	for _, other := range []string{"cage/north/c7", "barge/north/c7/oxygen/raw", ""} {
		_, ok := topic.Match(other)
		assert.False(t, ok, other)
	}
	exact, err := ParseTopic("mast/{quantity}")
	require.NoError(t, err)
	_, ok = exact.Match("mast/wind/speed")
	assert.False(t, ok)
}

func TestTopicsThatMeanNothingAreRefused(t *testing.T) {
	for text, wrong := range map[string]string{
		"": "is empty", "a/{b}/{b}": "uses {b} twice", "a/x{b}": "must be a whole level", "a/#/b": "only be the last", "a/b+": "mixes a wildcard", "{}": "must be a whole level",
	} {
		_, err := ParseTopic(text)
		assert.ErrorContains(t, err, wrong, text)
	}
}

func TestTemplatesBecomePaths(t *testing.T) {
	template, err := ParseTemplate("long-mere/{buoy}/oxygen", []string{"buoy"})
	require.NoError(t, err)
	path, err := template.Path(map[string]string{"buoy": "buoy-1"})
	require.NoError(t, err)
	assert.Equal(t, series.Path("long-mere/buoy-1/oxygen"), path)
	_, err = template.Path(map[string]string{"buoy": "a/b#"})
	assert.Error(t, err, "a topic level cannot smuggle in what no path may hold")
	_, err = ParseTemplate("{cage}/x", []string{"buoy"})
	assert.ErrorContains(t, err, "uses {cage}, which the topic does not bind (it binds {buoy})")
	_, err = ParseTemplate("a b/x", nil)
	assert.ErrorContains(t, err, "level 1")
}

func TestNumbers(t *testing.T) {
	for text, value := range map[string]float64{"12.5": 12.5, " -3\n": -3, "1e-3": 0.001, "true": 1, "false": 0} {
		v, err := ReadNumber([]byte(text))
		require.NoError(t, err, text)
		assert.Equal(t, value, v)
	}
	for text, wrong := range map[string]string{"": "is empty", "4,2": `"4,2" is not a number`, "4.2 m": "is not a number", "1_000": "is not a number", "0x10": "is not a number", "inf": "is not a number"} {
		_, err := ReadNumber([]byte(text))
		assert.ErrorContains(t, err, wrong)
	}
}

// The document and pointers of RFC 6901, section 5, with numbers for values.
func TestPointersAreThoseOfRFC6901(t *testing.T) {
	doc, err := ReadJSON([]byte(`{"foo":[10,11],"":0,"a/b":1,"c%d":2,"e^f":3,"g|h":4,"k\"l":6," ":7,"m~n":8,"deep":{"er":[{"x":9.5}]}}`))
	require.NoError(t, err)
	for text, value := range map[string]float64{
		"/foo/0": 10, "/foo/1": 11, "/": 0, "/a~1b": 1, "/c%d": 2, "/e^f": 3, "/g|h": 4, "/k\"l": 6, "/ ": 7, "/m~0n": 8, "/deep/er/0/x": 9.5,
	} {
		p, err := ParsePointer(text)
		require.NoError(t, err, text)
		v, err := doc.Number(p)
		require.NoError(t, err, text)
		assert.Equal(t, value, v, text)
	}
	for text, wrong := range map[string]string{"/nowhere": "nothing at /nowhere", "/foo": "an array at /foo", "/deep": "an object at /deep", "/foo/9": "nothing at /foo/9"} {
		p, err := ParsePointer(text)
		require.NoError(t, err)
		_, err = doc.Number(p)
		assert.ErrorContains(t, err, wrong)
	}
	_, err = ParsePointer("foo")
	assert.ErrorContains(t, err, "RFC 6901")
}

func TestTimes(t *testing.T) {
	doc, err := ReadJSON([]byte(`{"text":"2026-03-01T09:00:00.25+01:00","s":1772352000.25,"ms":1772352000250,"huge":1e300,"old":"0001-01-01T00:00:00Z"}`))
	require.NoError(t, err)
	wanted := time.Date(2026, 3, 1, 8, 0, 0, 250_000_000, time.UTC).UnixNano()
	at := func(pointer string, form TimeForm) (int64, error) {
		p, err := ParsePointer(pointer)
		require.NoError(t, err)
		return doc.Time(p, form)
	}
	for pointer, form := range map[string]TimeForm{"/text": RFC3339, "/s": UnixSeconds, "/ms": UnixMillis} {
		got, err := at(pointer, form)
		require.NoError(t, err)
		assert.Equal(t, wanted, got, pointer)
	}
	for pointer, form := range map[string]TimeForm{"/ms": RFC3339, "/text": UnixMillis, "/huge": UnixSeconds, "/old": RFC3339, "/none": RFC3339} {
		_, err := at(pointer, form)
		assert.Error(t, err, pointer)
	}
}

func TestRegisters(t *testing.T) {
	f32, f64 := math.Float32bits(-12.75), math.Float64bits(math.Pi)
	for _, test := range []struct {
		name  string
		words []uint16
		as    Type
		order WordOrder
		value float64
	}{
		{"uint16", []uint16{0xffff}, Uint16, HighWordFirst, 65535},
		{"int16", []uint16{0xffff}, Int16, HighWordFirst, -1},
		{"uint32", []uint16{0x0001, 0x0002}, Uint32, HighWordFirst, 65538},
		{"uint32 low", []uint16{0x0002, 0x0001}, Uint32, LowWordFirst, 65538},
		{"int32", []uint16{0xffff, 0xfffe}, Int32, HighWordFirst, -2},
		{"float32", []uint16{uint16(f32 >> 16), uint16(f32)}, Float32, HighWordFirst, -12.75},
		{"float32 low", []uint16{uint16(f32), uint16(f32 >> 16)}, Float32, LowWordFirst, -12.75},
		{"uint64", []uint16{0, 1, 0, 0}, Uint64, HighWordFirst, 1 << 32},
		{"int64", []uint16{0xffff, 0xffff, 0xffff, 0xfffd}, Int64, HighWordFirst, -3},
		{"float64 low", []uint16{uint16(f64), uint16(f64 >> 16), uint16(f64 >> 32), uint16(f64 >> 48)}, Float64, LowWordFirst, math.Pi},
		{"bool", []uint16{8}, Bool, HighWordFirst, 1},
	} {
		v, err := ReadWords(test.words, test.as, test.order)
		require.NoError(t, err, test.name)
		assert.Equal(t, test.value, v, test.name)
	}
	_, err := ReadWords([]uint16{1}, Float32, HighWordFirst)
	assert.ErrorContains(t, err, "takes 2 register(s), not 1")
}

func FuzzPayloadsNeverPanic(f *testing.F) {
	f.Add([]byte(`{"a":{"b":[1]}}`), "/a/b/0")
	f.Add([]byte(`[1,2]`), "/1")
	f.Fuzz(func(t *testing.T, payload []byte, pointer string) {
		p, err := ParsePointer(pointer)
		if err != nil {
			return
		}
		doc, err := ReadJSON(payload)
		if err != nil {
			return
		}
		_, _ = doc.Number(p)
		for _, form := range []TimeForm{RFC3339, UnixSeconds, UnixMillis} {
			_, _ = doc.Time(p, form)
		}
	})
}
