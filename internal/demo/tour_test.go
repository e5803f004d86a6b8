package demo

import (
	"bytes"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

func options(t *testing.T) Options {
	return Options{
		Dir:     filepath.Join(t.TempDir(), "demo"),
		Console: "127.0.0.1:0",
		Days:    1,
		Seed:    3,
		Starts:  Midday(),
		Version: "test",
		Log:     slog.New(slog.DiscardHandler),
	}
}

func TestTheTourLosesNothingAndASecondStartWorks(t *testing.T) {
	o := options(t)
	var out bytes.Buffer
	require.NoError(t, Tour(t.Context(), o, &out), "%s", &out)
	assert.Contains(t, out.String(), "Nothing was lost and nothing came twice.")
	w, err := Start(t.Context(), o)
	require.NoError(t, err)
	assert.NoError(t, w.Stop())
}

func TestEverySourceOfTheDemoBringsReadings(t *testing.T) {
	w, err := Start(t.Context(), options(t))
	require.NoError(t, err)
	defer func() { assert.NoError(t, w.Stop()) }()
	for site, forms := range map[string][]string{
		"alder-weir": {"modbus", "mqtt_listener"}, "stony-beck": {"modbus", "mqtt_broker"}, "long-mere": {"mqtt_listener", "http_push"},
	} {
		for i, form := range forms {
			require.Eventually(t, func() bool {
				s := w.Gateways[site].Gateway.Sources()[i]
				return s.Form == form && s.Up && s.Readings > 0
			}, time.Minute, 20*time.Millisecond, "%s: %s", site, form)
		}
	}
	for _, path := range []series.Path{
		"alder-weir/inlet-gate/opening", "alder-weir/inlet-gate/online", "stony-beck/silo-1/feed",
		"long-mere/lake/level", "long-mere/buoy-4/oxygen",
	} {
		site, _, _ := strings.Cut(string(path), "/")
		_, there := w.Gateways[site].Store.Find(path)
		assert.True(t, there, path)
	}
}

func TestTheProofFindsWhatIsMissingDoubledOrWrong(t *testing.T) {
	w, err := Start(t.Context(), options(t))
	require.NoError(t, err)
	defer func() { assert.NoError(t, w.Stop()) }()
	tour := &tour{out: &bytes.Buffer{}, world: w}
	require.NoError(t, tour.caughtUp(t.Context(), time.Minute))
	f, err := w.ProveUntilClean(t.Context(), time.Minute)
	require.NoError(t, err)
	require.True(t, f.Clean(), "%+v", f)

	selector, err := series.ParseSelector("alder-weir/hatchery/inflow")
	require.NoError(t, err)
	here, there := w.Gateways["alder-weir"].Store, w.Central.Store
	gatewayID, centralID := here.List(selector)[0].ID, there.List(selector)[0].ID
	add := func(st *store.Store, id uint32, tier series.Tier, at int64, values ...float64) {
		rows := column.New(len(values), 1)
		rows.Add(at, values...)
		require.NoError(t,
			st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Tier: tier, Rows: rows}}}))
	}
	begin := int64(series.Minute) * 1_000_000 // long before the demo
	unfounded := make([]float64, rollup.Common)
	unfounded[0] = 1
	add(there, centralID, series.Minute, begin, unfounded...)
	f, err = w.Prove()
	require.NoError(t, err)
	assert.Equal(t, 1, f.Extra)

	add(here, gatewayID, series.Readings, begin+int64(series.Minute)*5, 80) // written past the pipeline, so never rolled up
	f, err = w.Prove()
	require.NoError(t, err)
	assert.Equal(t, 2, f.Missing, "one window of each tier")

	rows, err := there.Read(t.Context(), centralID, series.Minute, begin+1, all)
	require.NoError(t, err)
	doubled := make([]float64, len(rows.Cols))
	for c := range doubled {
		doubled[c] = rows.Cols[c][0]
	}
	doubled[0] *= 2
	add(there, centralID, series.Minute, rows.Times[0], doubled...)
	f, err = w.Prove()
	require.NoError(t, err)
	assert.Equal(t, 1, f.Different)
}

func TestAFolderThatIsNoDemoIsLeftAlone(t *testing.T) {
	o := options(t)
	require.NoError(t, os.MkdirAll(o.Dir, 0o755))
	precious := filepath.Join(o.Dir, "precious")
	require.NoError(t, os.WriteFile(precious, nil, 0o600))
	_, err := Start(t.Context(), o)
	assert.ErrorContains(t, err, "holds something that is not a demo")
	assert.FileExists(t, precious)
}
