package reconcile

import (
	"context"
	"slices"
	"strings"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/wire"
)

// Teller is a central that tells where its rows differ from those of a gateway.
type Teller struct {
	Store   Store
	Kept    func(tier series.Tier) (from int64) // since when all summaries of a tier are kept here
	Called  func(path series.Path) series.Path
	Records func(kind string, sites []string) ([]wire.RecordState, error)
}

const mostDifferences = 20_000

// Compare answers about the series of the sites that a gateway may send.
func (t *Teller) Compare(ctx context.Context, in wire.Compare, sites []string) (out wire.Compared, err error) {
	narrow := false
	for _, scope := range in.Scopes {
		if kept := t.Kept(series.Tier(scope.Tier)); kept > scope.From {
			scope.From, narrow = min(dayOf(kept)+Day, scope.To), true
		}
		out.Scopes = append(out.Scopes, scope)
	}
	if narrow {
		return out, nil
	}
	out.Equal = true
	if in.All != nil {
		all, err := sumAll(ctx, t.Store, t.of(sites), in.Scopes)
		if err != nil {
			return out, err
		}
		out.Equal = whole(all) == *in.All
	}
	if in.Series != nil {
		err = t.compareSeries(ctx, in, sites, &out)
	}
	for _, days := range in.Days {
		if err == nil {
			err = t.compareDays(ctx, in.Scopes, days, sites, &out)
		}
	}
	for _, day := range in.Rows {
		if err == nil && len(out.Rows) < mostDifferences {
			err = t.compareRows(ctx, in.Scopes, day, sites, &out)
		}
	}
	for _, list := range in.Records {
		if err == nil {
			err = t.compareRecords(list, sites, &out)
		}
	}
	return out, err
}

// of returns all series of some sites.
func (t *Teller) of(sites []string) (out []engine.Series) {
	for _, site := range sites {
		if selector, err := series.ParseSelector(site + "/#"); err == nil {
			out = append(out, t.Store.List(selector)...)
		}
	}
	return out
}

// one returns a series if it is of one of the sites.
func (t *Teller) one(path string, sites []string) (engine.Series, bool) {
	known, ok := t.Store.Find(t.Called(series.Path(path)))
	return known, ok && slices.Contains(sites, known.Path.Site())
}

func (t *Teller) compareSeries(ctx context.Context, in wire.Compare, sites []string, out *wire.Compared) error {
	theirs := map[string]bool{}
	for _, s := range in.Series.Series {
		known, ok := t.one(s.Path, sites)
		if theirs[string(known.Path)] = true; !ok {
			out.Series, out.Equal = append(out.Series, s.Path), false
			continue
		}
		rows, err := seriesDigest(ctx, t.Store, &known, in.Scopes)
		if err != nil {
			return err
		}
		if rows != s.Rows {
			out.Series, out.Equal = append(out.Series, s.Path), false
		}
		if definitionHash(known.Definition, in.Scopes) != s.Definition {
			out.Defined, out.Equal = append(out.Defined, s.Path), false
		}
	}
	if in.Series.Only {
		return nil
	}
	for _, known := range t.of(sites) {
		path := string(known.Path)
		if theirs[path] || path < in.Series.From || in.Series.To != "" && path >= in.Series.To {
			continue
		}
		rows, err := seriesDigest(ctx, t.Store, &known, in.Scopes)
		if err != nil {
			return err
		}
		if rows.Rows > 0 {
			out.Extra, out.Equal = append(out.Extra, path), false
		}
	}
	slices.SortFunc(out.Extra, strings.Compare)
	return nil
}

// compareDays tells which days of a series differ.
func (t *Teller) compareDays(ctx context.Context, scopes []wire.Scope, in wire.SeriesDays, sites []string, out *wire.Compared) error {
	i := slices.IndexFunc(scopes, func(s wire.Scope) bool { return s.Tier == in.Tier })
	if i < 0 {
		return nil
	}
	var ours []wire.DayDigest
	if known, ok := t.one(in.Path, sites); ok {
		var err error
		if ours, err = daysOf(ctx, t.Store, &known, scopes[i]); err != nil {
			return err
		}
	}
	differ := wire.SeriesDays{Path: in.Path, Tier: in.Tier}
	at := map[int64]wire.DayDigest{}
	for _, d := range ours {
		at[d.Day] = d
	}
	for _, d := range in.Days {
		if at[d.Day].Rows != d.Rows {
			differ.Days = append(differ.Days, wire.DayDigest{Day: d.Day, Rows: at[d.Day].Rows})
		}
		delete(at, d.Day)
	}
	for _, d := range ours {
		if _, left := at[d.Day]; left {
			differ.Days = append(differ.Days, d)
		}
	}
	if len(differ.Days) > 0 {
		out.Days, out.Equal = append(out.Days, differ), false
	}
	return nil
}

// compareRows tells which rows of a day differ.
func (t *Teller) compareRows(ctx context.Context, scopes []wire.Scope, in wire.DayRows, sites []string, out *wire.Compared) error {
	ours := map[int64]row{}
	if known, ok := t.one(in.Path, sites); ok {
		if err := eachRow(ctx, t.Store, &known, within(scopes, in.Tier, in.Day), func(r row) { ours[r.start] = r }); err != nil {
			return err
		}
	}
	add := func(start int64, what string) {
		one := wire.Difference{Path: in.Path, Tier: in.Tier, Start: start, What: what, Count: ours[start].count}
		out.Rows, out.Equal = append(out.Rows, one), false
	}
	for i, start := range in.Starts {
		if i >= len(in.Hashes) {
			break
		}
		mine, ok := ours[start]
		switch {
		case !ok:
			add(start, wire.Missing)
		case mine.hash != in.Hashes[i]:
			add(start, wire.Changed)
		}
		delete(ours, start)
	}
	var extra []int64
	for start := range ours {
		extra = append(extra, start)
	}
	slices.Sort(extra)
	for _, start := range extra {
		add(start, wire.Extra)
	}
	return nil
}

// compareRecords tells which records are missing here, or older.
func (t *Teller) compareRecords(in wire.RecordList, sites []string, out *wire.Compared) error {
	ours, err := t.Records(in.Kind, sites)
	if err != nil {
		return err
	}
	if RecordsDigest(ours) == in.Digest {
		return nil
	}
	out.Equal = false
	differ := wire.RecordList{Kind: in.Kind}
	versions := map[string]uint64{}
	for _, r := range ours {
		versions[r.ID] = r.Version
	}
	for _, r := range in.Records {
		if versions[r.ID] != r.Version {
			differ.Records = append(differ.Records, r)
		}
		delete(versions, r.ID)
	}
	for _, r := range ours {
		if _, left := versions[r.ID]; left {
			differ.Extra = append(differ.Extra, r)
		}
	}
	out.Records = append(out.Records, differ)
	return nil
}
