package api

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
	"nexocumula/internal/store/records"
)

const (
	gapsOver = 30 * 24 * time.Hour
	mostGaps = 10_000
)

var gapsParameters = names{"select", "label*", "from", "to", "last", "range", "zone", "cause", "limit", "format"}

// gaps answers what is missing of series in a time, the longest first, and which share each cause has.
func (h handlers) gaps(c *gin.Context) {
	v, ok := gapsParameters.query(c)
	if !ok {
		return
	}
	from, to, given, err := readSpan(v, h.now())
	if !given {
		from, to = h.now().Add(-gapsOver), h.now()
	}
	var selector series.Selector
	if err == nil {
		selector, err = readSelected(v)
	}
	var most uint64
	if err == nil {
		most, err = whole(v, "limit", 100, 1, mostGaps)
	}
	cause := gap.Cause(v.Get("cause"))
	if err == nil && cause != "" && !slices.Contains(gap.Causes, cause) {
		err = fmt.Errorf("cause %q is not known; use one of %v", cause, gap.Causes)
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	form, err := formOf(c)
	if err != nil || form == asArrow {
		fail(c, http.StatusNotAcceptable, "format", "use json or csv")
		return
	}
	asked := h.view(c).List(selector)
	if len(asked) == 0 && v.Get("select") != "" {
		fail(c, http.StatusNotFound, "unknown_series",
			fmt.Sprintf("no series matches %s; nexocumula series list shows what there is", v.Get("select")))
		return
	}
	paths := make([]series.Path, len(asked))
	for i, s := range asked {
		paths[i] = s.Path
	}
	slices.Sort(paths)
	found, err := h.Records.Gaps.Between(from, to, paths)
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	out := client.Gaps{From: from.UTC(), To: to.UTC(), Series: len(asked), Gaps: []client.Gap{}}
	for _, g := range found {
		_, sees := slices.BinarySearch(paths, g.Series)
		if !sees || cause != "" && g.Cause != cause {
			continue
		}
		out.Gaps = append(out.Gaps, client.Gap{
			Series:   string(g.Series),
			Missing:  missingOf(g),
			Author:   g.Author,
			LengthMS: lengthOf(g, from, to, h.now()).Milliseconds(),
		})
	}
	out.Causes, out.Count = sharesOf(out.Gaps), len(out.Gaps)
	slices.SortStableFunc(out.Gaps, func(a, b client.Gap) int {
		return cmp.Or(cmp.Compare(b.LengthMS, a.LengthMS), strings.Compare(a.Series, b.Series), a.From.Compare(b.From))
	})
	out.Gaps = out.Gaps[:min(len(out.Gaps), int(most))]
	if form == asCSV {
		gapsCSV(c, out.Gaps)
		return
	}
	c.JSON(http.StatusOK, out)
}

func missingOf(g records.Gap) client.Missing {
	return client.Missing{From: g.From, To: pointer(g.To), Of: g.Of, Cause: string(g.Cause), Detail: g.Detail}
}

// lengthOf returns how much of a gap is within a time, as far as that has come.
func lengthOf(g records.Gap, from, to, now time.Time) time.Duration {
	end := g.To
	if end.IsZero() {
		end = now
	}
	return max(0, earlier(end, to).Sub(later(g.From, from)))
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// sharesOf sums gaps up by their causes.
func sharesOf(all []client.Gap) []client.CauseShare {
	out := []client.CauseShare{}
	var sum int64
	for _, g := range all {
		i := slices.IndexFunc(out, func(s client.CauseShare) bool { return s.Cause == g.Cause })
		if i < 0 {
			i, out = len(out), append(out, client.CauseShare{Cause: g.Cause})
		}
		out[i].Gaps++
		out[i].LengthMS += g.LengthMS
		sum += g.LengthMS
	}
	for i := range out {
		out[i].Share = client.Number(float64(out[i].LengthMS) / float64(max(1, sum)))
	}
	slices.SortStableFunc(out, func(a, b client.CauseShare) int { return cmp.Compare(b.LengthMS, a.LengthMS) })
	return out
}

// gapsCSV writes RFC 4180.
func gapsCSV(c *gin.Context, all []client.Gap) {
	c.Header("Content-Type", typeCSV)
	c.Status(http.StatusOK)
	w := csv.NewWriter(c.Writer)
	_ = w.Write([]string{"series", "from", "to", "of", "cause", "detail", "author", "length_ms"}) // who does not read any more went away
	for _, g := range all {
		to := ""
		if g.To != nil {
			to = g.To.Format(time.RFC3339Nano)
		}
		_ = w.Write([]string{
			plain.Cell(g.Series), g.From.Format(time.RFC3339Nano), to, g.Of, g.Cause, plain.Cell(g.Detail), plain.Cell(g.Author),
			strconv.FormatInt(g.LengthMS, 10),
		})
	}
	w.Flush()
}
