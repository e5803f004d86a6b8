package fieldwork_test

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/gateway/source/sourcetest"
	"nexocumula/internal/kinds"
)

var payloads = [][]byte{
	[]byte("21.5"), []byte("21.5 °C"), []byte("1438.0 kg"), []byte("true"), []byte("7.8 m/s 339"), []byte("a;1;2;3"), []byte("t=21.5,h=60"), []byte("t:1|h:2"), []byte("1,2,3\n4,5,6"),
	[]byte(`{"at":"2026-03-01T08:00:00Z","water":{"t1":14.1,"t3":13},"oxygen":9.9,"open":true,"gate":"closed","id":"x/y"}`),
	[]byte(`{"ts":1772352000123,"v":[1,2],"a~/b":1,"":2,"Ünit":3,"deep":{"deep":{"v":1}},"v2":null}`), []byte(`[{"bn":"urn:dev:1/","bt":1772352000,"n":"temp","u":"Cel","v":21},{"n":"open","vb":true},{"n":"hum","v":60,"u":"%RH"}]`),
	[]byte(`[{"id":"b-1","ts":1772352000,"temp":7},{"id":"b 2/x","ts":1772352001,"oxygen":9}]`), []byte(`{"at":"2026-03-01T08:00:00Z","rows":[{"v":{"temp":7,"":1}},{"v":{"temp":8}}]}`), []byte(`{"":[{"a":1}]}`), []byte("\x81\xa2\x61t\x1a\x69\xa3\xf2\x80\x61v\x07"),
	[]byte(`[]`), []byte(`{}`), []byte(``), []byte("\x00\x01"), {0xa1, 0x61, 't', 0xfb, 0x40, 0x35, 0x80, 0, 0, 0, 0, 0}, {0x81, 0xa2, 0x00, 0x61, 'x', 0x02, 0x18, 0x2a},
	[]byte("2026-03-01 08:00:00 INFO probe 3: temp=21.5 hum=60.2%"), []byte("level is 4.12 m at the weir"), []byte("{'temp': 21.5}"), []byte("1.234,5 °C"), []byte("0x1A"), []byte("NaN"), []byte("ON"),
	[]byte(`"mast, north";"4,5";"60"`), []byte("at;temp\n2026-03-01T08:00:00Z;21.5\n"), []byte("01.03.2026;08:00:00;4,5"), []byte(`{"depths":[14.2,11.8],"a":"21,5 °C","b":"-9999","c":null,"date":"2026-03-01","time":"08:00:00"}`),
	[]byte("{\"t\":1772352000,\"v\":1}\n{\"t\":1772352001,\"v\":2}\n"), []byte(`{"device":"rw-1","payload":"{\"temp\":21.5}"}`), []byte(`<station id="mast"><wind speed="7.8"/><t>1</t><t>2</t></station>`), []byte("\x82\xa4temp\xcb\x40\x35\x80\x00\x00\x00\x00\x00\xa3hum\x3c"),
	[]byte("[[1772352000,4.1],[1772352001,4.2]]"), []byte("eyJ0ZW1wIjoyMS41fQ=="), []byte("T:+21.5C H:60.2%"),
}

var topics = []string{
	"a", "a/b", "buoy/buoy-1/state", "/lead", "trail/", "sp ace/x", "ü/b", "a/b/c/d/e/f/g/h/i/j/k/l/m",
	"spBv1.0/g/NDATA/n", "{x}/y", "a//b", "..", "x/%/y", "feed/silo 1/weight",
}

// Whatever is published, the lines that are written are good, and what they propose collects
// the topic or says why not.
func TestLinesAreGoodWhateverIsPublished(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	proposed, collected := 0, 0
	sourcetest.HostileOf(t, 4000, payloads, func(_ int, input []byte) {
		want := client.LinesFor{Name: "found", Address: "tcp://127.0.0.1:1883"}
		for range 1 + random.IntN(4) {
			last := input
			if random.IntN(2) == 0 {
				last = payloads[random.IntN(len(payloads))]
			}
			want.Topics = append(want.Topics, client.LinesTopic{Topic: topics[random.IntN(len(topics))], Last: last})
		}
		lines, err := fieldwork.Lines(want)
		require.NoError(t, err)
		if lines.Sources == "" {
			return
		}
		proposed++
		text := "data: ./data\ngateway:\n  site: here\n  series:\n" + below(lines.Rules, 4) + "  sources:\n" + below(lines.Sources,
			4)
		settings, err := config.Parse("f.yaml", []byte(text), kinds.All)
		require.NoError(t, err, "%q\n%s", want.Topics, text)
		of := settings.Gateway.Sources[0].Settings.(source.Settings).Open("found", nil, slog.New(slog.DiscardHandler)).(source.Rereader)
		for _, topic := range want.Topics {
			readings, rejects := of.Reread(topic.Topic, topic.Last, 1772352000e9)
			left := strings.Contains(fmt.Sprint(lines.Skipped), topic.Topic+":") ||
				strings.HasPrefix(topic.Topic, "spBv1.0/")
			for _, r := range rejects {
				assert.True(t, left || !strings.Contains(r.Reason, "matches no messages"), "%s %q: %s\n%s",
					topic.Topic, topic.Last, r.Reason, text)
			}
			if len(readings) > 0 {
				collected++
			}
		}
	})
	assert.Greater(t, proposed, 2000)
	assert.Greater(t, collected, 2000)
}

func below(items string, by int) string {
	var out strings.Builder
	for line := range strings.Lines(items) {
		out.WriteString(strings.Repeat(" ", by) + line)
	}
	return out.String()
}

func TestRegistersBecomeLines(t *testing.T) {
	low, high := 0.0, 20.0
	lines, err := fieldwork.Lines(client.LinesFor{Name: "probe", Address: "tcp://10.0.0.7:502", Unit: 4, Table: "input", Registers: []client.LinesRegister{
		{
			Keys:   "address: 0, type: int16, scale: 0.01",
			Series: "raceway-4/oxygen",
			Unit:   "mg/l",
			Low:    &low,
			High:   &high,
		}, {Keys: "address: 1, type: uint16", Series: "raceway-4/status"},
	}})
	require.NoError(t, err)
	_, err = config.Parse("f.yaml",
		[]byte("data: ./data\ngateway:\n  site: here\n  series:\n"+below(lines.Rules, 4)+"  sources:\n"+below(lines.Sources,
			4)),
		kinds.All)
	require.NoError(t, err)
	assert.Equal(t, "- { select: +/+/oxygen, unit: \"mg/l\", normal: { inner: [0, 20] } }\n", lines.Rules)
	for _, want := range []client.LinesFor{
		{},
		{Name: "a b", Topics: []client.LinesTopic{{Topic: "x"}}},
		{Registers: []client.LinesRegister{{Series: "oxygen"}}},
	} {
		_, err := fieldwork.Lines(want)
		assert.Error(t, err)
	}
}
