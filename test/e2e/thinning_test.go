package e2e

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const thinConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: long-mere
  series: [{ select: "#", unit: Cel, fresh_for: 30s, tiers: [10s, 1m, 1h], thinning: { method: swinging_door, within: 0.2 } }]
  sources:
    - name: own
      mqtt_listener: { address: "127.0.0.1:%[2]s", messages: [{ topic: "s/{n}", payload: json, time: /t, time_form: unix_ms, values: [{ at: /v, series: "{n}/water_temp" }] }] }
`

// A gateway that thins is stopped, killed and started again while hours of readings come, some of them
// twice and some late. What it then says of any window is what all readings that were acknowledged
// say; and what it kept tells each of them within the stated error.
// summarised reports whether no window is answered from readings any more.
func summarised(t *testing.T, gateway *client.Client, hour time.Time) bool {
	out, err := gateway.Windows(t.Context(), client.WindowsQuery{
		Select: []string{"#"}, From: hour, To: hour.Add(5 * time.Hour), Width: "10s", Stats: []string{"count"}, Explain: true,
	})
	return err == nil && len(out.Series) == 1 && out.Series[0].Explained != nil &&
		!slices.ContainsFunc(out.Series[0].Explained.Read, func(r client.Read) bool { return r.Tier == "readings" && r.Rows > 0 })
}

func TestThinningThroughStopsAndKills(t *testing.T) {
	t.Parallel()
	dir, port := t.TempDir(), freePort(t)
	config := fmt.Sprintf(thinConfig, dir, port)
	hour := time.Now().Add(-8 * time.Hour).Truncate(time.Hour)
	random := rand.New(rand.NewPCG(11, 12))
	values := map[int64]float64{} // by milliseconds since hour
	var order []int64
	v := 10.0
	for at := int64(0); at < 5*3600_000; at += 1000 + random.Int64N(10_000) {
		if at > 7000_000 && at < 7600_000 { // a gap, that is filled late
			continue
		}
		v += random.NormFloat64() / 10
		values[at], order = math.Round(v*100)/100, append(order, at)
	}
	publishAll := func(times []int64) {
		var lines []string
		for _, at := range times {
			lines = append(lines, fmt.Sprintf(`{"t":%d,"v":%v}`, hour.UnixMilli()+at, values[at]))
		}
		publish(t, port, "s/buoy-1", lines, "-q", "1")
	}
	var gateway *client.Client
	var p *process
	fifth := len(order) / 5
	for part := range 5 {
		p, gateway = service(t, dir, "gateway", config)
		of := order[part*fifth : (part+1)*fifth]
		if part > 0 { // the sender does not know what arrived, and sends the last minutes again
			publishAll(order[part*fifth-100 : part*fifth])
		}
		publishAll(of)
		eventually(t, "all of the part has come", func() bool {
			now, err := gateway.Now(t.Context(), "#")
			return err == nil && len(now.Values) == 1 &&
				now.Values[0].Time.Equal(hour.Add(time.Duration(of[len(of)-1])*time.Millisecond))
		})
		if part%2 == 0 {
			eventually(t, "the part is summarised", func() bool { return summarised(t, gateway, hour) })
			require.Zero(t, p.interrupt(t)) // which seals, and so thins
		} else {
			p.kill()
		}
	}
	_, gateway = service(t, dir, "gateway", config)
	var late []int64
	for at := int64(7000_500); at < 7600_000; at += 2000 {
		values[at], late = 12, append(late, at)
	}
	publishAll(late)
	sent := fifth*5 + len(late)

	for _, width := range []struct {
		text string
		long time.Duration
	}{{"10s", 10 * time.Second}, {"1m", time.Minute}, {"1h", time.Hour}} {
		q := client.WindowsQuery{
			Select: []string{"#"},
			From:   hour,
			To:     hour.Add(5 * time.Hour),
			Width:  width.text,
			Stats:  []string{"count", "mean", "min", "max", "last"},
		}
		var got client.SeriesWindows
		eventually(t, "all windows of "+width.text+" are made", func() bool {
			out, err := gateway.Windows(t.Context(), q)
			if err != nil {
				return false
			}
			got = out.Series[0]
			total := 0.0
			for _, n := range got.Values["count"] {
				if !math.IsNaN(n) {
					total += n
				}
			}
			return int(total) == sent
		})
		windows := map[int64][]float64{} // in order of time
		for at := int64(0); at <= order[fifth*5-1]; at++ {
			if v, ok := values[at]; ok {
				windows[at/width.long.Milliseconds()] = append(windows[at/width.long.Milliseconds()], v)
			}
		}
		for i := range got.Values["count"] {
			of := windows[int64(i)]
			if len(of) == 0 {
				assert.True(t, got.Values["count"][i] == 0 || math.IsNaN(got.Values["count"][i]), "%s, window %d",
					width.text, i)
				continue
			}
			low, high, sum := math.Inf(1), math.Inf(-1), 0.0
			for _, v := range of {
				low, high, sum = min(low, v), max(high, v), sum+v
			}
			require.Equal(t, []float64{float64(len(of)), low, high, of[len(of)-1]}, []float64{
				got.Values["count"][i], got.Values["min"][i], got.Values["max"][i], got.Values["last"][i],
			}, "%s, window %d", width.text, i)
			require.InDelta(t, sum/float64(len(of)), got.Values["mean"][i], 1e-9)
		}
	}

	list, err := gateway.Series(t.Context(), "#")
	require.NoError(t, err)
	about := list.Series[0].Thinning
	assert.LessOrEqual(t, float64(about.WorstError), 0.2*(1+1e-9))
	assert.Less(t, 2*about.Kept, about.Arrived)
	kept, err := gateway.Readings(t.Context(), client.ReadingsQuery{
		Select: "#",
		From:   hour,
		To:     hour.Add(5 * time.Hour),
	})
	require.NoError(t, err)
	readings := kept.Series[0].Readings
	assert.Less(t, 2*len(readings), sent)
	k := 0
	for at := int64(0); at <= order[fifth*5-1]; at++ {
		v, ok := values[at]
		if !ok {
			continue
		}
		when := hour.Add(time.Duration(at) * time.Millisecond)
		for k+1 < len(readings) && !readings[k+1].Time.After(when) {
			k++
		}
		says := float64(readings[k].Value)
		if k+1 < len(readings) {
			span := readings[k+1].Time.Sub(readings[k].Time)
			says += float64(when.Sub(readings[k].Time)) / float64(span) * (float64(readings[k+1].Value) - says)
		}
		require.LessOrEqual(t, math.Abs(says-v), 0.2+1e-9, "at %s", when)
	}
}
