package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/time/rate"

	"nexocumula/internal/access"
	"nexocumula/internal/config"
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

func verifyCommand() *cli.Command {
	return &cli.Command{
		Name:  "verify",
		Usage: "Look whether all that a service keeps is whole, and agrees with itself",
		Description: "Run it on the service's machine, as the account the service runs as. The service may be running. Nothing is changed.\n" +
			"Every chunk, patch and row of the journal is read and compared with its checksums; synopses and steps are compared with the\n" +
			"rows they stand for; definitions, what waits for uplinks, accounts and the audit are looked through, and SQLite looks through its pages.",
		Flags: []cli.Flag{
			configFlag(), rateFlag, outputFlag, zoneFlag,
		},
		Action: verify,
	}
}

// rateFlag spares the disk of a service that runs.
var rateFlag = &cli.FloatFlag{
	Name: "rate", Usage: "read at most so many megabytes a second; default: as fast as it goes", HideDefault: true,
	Validator: func(most float64) error {
		if !(most > 0) {
			return fmt.Errorf("rate %v: use a number of megabytes a second, above 0", most)
		}
		return nil
	},
}

// limitOf returns the limit that --rate sets; nil: none.
func limitOf(cmd *cli.Command) *rate.Limiter {
	if !cmd.IsSet(rateFlag.Name) {
		return nil
	}
	bytes := cmd.Float(rateFlag.Name) * 1e6
	return rate.NewLimiter(rate.Limit(bytes), max(leastBurst, int(bytes)))
}

// verified is the answer of verify.
type verified struct {
	Series  int          `json:"series"`
	Bytes   int64        `json:"bytes"` // of payloads
	Entries int          `json:"audit_entries"`
	Aside   int          `json:"set_aside"` // before, by the service
	Faults  []foundFault `json:"faults"`
}

type foundFault struct {
	Place  string     `json:"place"` // table, or access.db
	ID     uint64     `json:"id,omitempty"`
	Series string     `json:"series,omitempty"`
	Tier   string     `json:"tier,omitempty"`
	From   *time.Time `json:"from,omitempty"`
	To     *time.Time `json:"to,omitempty"` // of the last row
	Rows   int        `json:"rows,omitempty"`
	Text   string     `json:"text"`
}

func verify(ctx context.Context, cmd *cli.Command) error {
	giveWay()
	settings, err := config.Load(cmd.String("config"), kinds.All)
	if err != nil {
		return err
	}
	out := verified{Faults: []foundFault{}}
	read := reading{to: aside(cmd), told: time.Now(), bytes: &out.Bytes, limit: limitOf(cmd)}
	seen, err := store.Verify(ctx, filepath.Join(settings.Data, service.StoreFile), logger(cmd),
		func(f engine.Fault) { out.Faults = append(out.Faults, faultOf(f)) }, read.read)
	if err != nil {
		return err
	}
	out.Series, out.Aside = seen.Series, seen.Aside
	audit, err := access.VerifyFile(ctx, settings.Data, logger(cmd))
	if err != nil {
		return err
	}
	out.Entries = audit.Entries
	for _, text := range audit.Problems {
		out.Faults = append(out.Faults, foundFault{Place: access.File, Text: text})
	}
	if err := show(cmd, out, faultGrid(out)); err != nil {
		return err
	}
	switch n := len(out.Faults); n {
	case 0:
		return nil
	case 1:
		return fmt.Errorf("1 fault was found in %s", settings.Data)
	default:
		return fmt.Errorf("%d faults were found in %s", n, settings.Data)
	}
}

// leastBurst is more than what is read in one go.
const leastBurst = 1 << 20

// reading counts what was read, tells how it goes, and waits when that was too fast.
type reading struct {
	to    io.Writer
	told  time.Time
	bytes *int64
	limit *rate.Limiter
}

func (r *reading) read(ctx context.Context, bytes int) error {
	*r.bytes += int64(bytes)
	if time.Since(r.told) > time.Second {
		r.told = time.Now()
		fmt.Fprintf(r.to, "%s looked through\n", megabytes(*r.bytes))
	}
	if r.limit != nil && bytes > 0 {
		return r.limit.WaitN(ctx, min(bytes, r.limit.Burst()))
	}
	return ctx.Err()
}

func megabytes(bytes int64) string { return fmt.Sprintf("%.1f MB", float64(bytes)/1e6) }

func faultOf(f engine.Fault) foundFault {
	out := foundFault{Place: f.Place, ID: f.ID, Series: f.Series, Rows: f.Rows, Text: f.Text}
	if f.Rows > 0 {
		from, to := time.Unix(0, f.From).UTC(), time.Unix(0, f.To).UTC()
		out.From, out.To, out.Tier = &from, &to, f.Tier.String()
	}
	return out
}

func faultGrid(out verified) grid {
	g := grid{
		columns: []column{
			{name: "place"}, {name: "id", right: true}, {name: "series"}, {name: "tier"}, {name: "from"}, {name: "to"}, {name: "rows", right: true},
			{name: "fault"},
		},
		empty: fmt.Sprintf("All is whole: %d series, %s of rows, %d entries of the audit.", out.Series, megabytes(out.Bytes), out.Entries),
	}
	for _, f := range out.Faults {
		g.rows = append(g.rows, []cell{
			plain(f.Place), count(f.ID), plain(f.Series), plain(f.Tier), momentOr(f.From, ""), momentOr(f.To, ""), count(f.Rows), plain(f.Text),
		})
	}
	if out.Aside > 0 {
		g.notes = append(g.notes, fmt.Sprintf("%d damaged rows were found by the service before, and are set aside", out.Aside))
	}
	return g
}
