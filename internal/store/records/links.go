package records

import (
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/store/sqlite"
)

// Outage is a time in which a link was down, and how it caught up afterwards.
type Outage struct {
	ID       uint64
	Link     string // such as "to head-office", "from stony-beck" or "source probes"
	Began    time.Time
	Ended    time.Time // zero: it is still down
	Reason   string    // as it was first told
	Waited   int       // about how many summaries waited, at most
	Oldest   time.Time // since when what waited longest did; zero: nothing waited
	CaughtUp time.Time // when the last that had waited arrived; zero: not yet
}

// Waiting is how many summaries waited for a link at a time.
type Waiting struct {
	Link string
	At   time.Time
	Rows int
}

// Run is a time in which the service ran; in others nothing is known of its links.
type Run struct{ From, To time.Time }

// KeepOutages is how long outages are kept; what waited meanwhile for a tenth of it.
const (
	KeepOutages = 400 * 24 * time.Hour
	keepWaiting = KeepOutages / 10
)

// mostOutages of a link, and mostRuns, are kept; the oldest go first.
const (
	mostOutages = 5000
	mostRuns    = 2000 // a service that ends as soon as it began writes many
)

type outageRow struct {
	ID       uint64 `gorm:"primaryKey"`
	Link     string `gorm:"index:outages_link"`
	Began    int64  `gorm:"index:outages_link"`
	Ended    int64
	Reason   string
	Waited   int
	Oldest   int64
	CaughtUp int64
}

type waitingRow struct {
	Link    string `gorm:"primaryKey"`
	At      int64  `gorm:"primaryKey;autoIncrement:false"`
	RowsNow int
}

type runRow struct {
	Began int64 `gorm:"primaryKey;autoIncrement:false"`
	Until int64
}

func (outageRow) TableName() string  { return "outages" }
func (waitingRow) TableName() string { return "waiting" }
func (runRow) TableName() string     { return "runs" }

func (r outageRow) outage() Outage {
	return Outage{
		r.ID, r.Link, timeOf(r.Began), timeOf(r.Ended), r.Reason, r.Waited, timeOf(r.Oldest), timeOf(r.CaughtUp),
	}
}

// Links are the records of links: their outages and what waited for them.
type Links struct{ file *sqlite.File }

// Save keeps in one step what is new about links: outages that began or changed, which
// get their numbers, what waits, and how long the service has been running.
func (l Links) Save(outages []*Outage, waiting []Waiting, run Run) error {
	err := l.transaction(func(tx *gorm.DB) error {
		for _, o := range outages {
			row := outageRow{
				o.ID, o.Link, nanosOf(o.Began), nanosOf(o.Ended), o.Reason, o.Waited, nanosOf(o.Oldest),
				nanosOf(o.CaughtUp),
			}
			if err := tx.Save(&row).Error; err != nil {
				return err
			}
			if o.ID == 0 {
				o.ID = row.ID
				if err := tx.Exec("DELETE FROM outages WHERE link = ? AND id NOT IN (SELECT id FROM outages WHERE link = ? ORDER BY id DESC LIMIT ?)",
					o.Link, o.Link, mostOutages).Error; err != nil {
					return err
				}
			}
		}
		for _, w := range waiting {
			if err := tx.Save(&waitingRow{w.Link, w.At.UnixNano(), w.Rows}).Error; err != nil {
				return err
			}
		}
		return tx.Save(&runRow{nanosOf(run.From), nanosOf(run.To)}).Error
	})
	if err != nil {
		return l.file.SetTrouble("writing about links", fmt.Errorf("writing about links: %w", err))
	}
	l.file.ClearTrouble("writing about links")
	return nil
}

func (l Links) transaction(change sqlite.Change) error {
	return l.file.Write(func(w sqlite.Writer) error { return w.Transaction(change) })
}

// Drop forgets what was noted of links before a time, and sooner what waited for them.
func (l Links) Drop(before time.Time) error {
	return l.transaction(func(tx *gorm.DB) error {
		if err := tx.Where("ended > 0 AND ended < ?", before.UnixNano()).Delete(&outageRow{}).Error; err != nil {
			return err
		}
		if err := tx.Where("at < ?", before.Add(KeepOutages-keepWaiting).UnixNano()).Delete(&waitingRow{}).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM runs WHERE began NOT IN (SELECT began FROM runs ORDER BY began DESC LIMIT ?)",
			mostRuns).Error; err != nil {
			return err
		}
		return tx.Where("until < ?", before.UnixNano()).Delete(&runRow{}).Error
	})
}

// Open returns the outages that are not over, or not caught up.
func (l Links) Open() ([]Outage, error) {
	return l.outages(l.file.Reader().Where("ended = 0 OR caught_up = 0 AND waited > 0"))
}

// Outages returns the outages that reach into a time range, oldest first.
func (l Links) Outages(from, to time.Time) ([]Outage, error) {
	return l.outages(l.file.Reader().Where("began < ? AND (ended = 0 OR ended > ? OR caught_up > ?)", to.UnixNano(),
		from.UnixNano(), from.UnixNano()))
}

func (l Links) outages(query *gorm.DB) ([]Outage, error) {
	var rows []outageRow
	if err := query.Order("began, id").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the outages: %w", err)
	}
	out := make([]Outage, len(rows))
	for i, r := range rows {
		out[i] = r.outage()
	}
	return out, nil
}

// Waited returns the backlogs of links in a time range, in order.
func (l Links) Waited(from, to time.Time) ([]Waiting, error) {
	var rows []waitingRow
	if err := l.file.Reader().Where("at >= ? AND at < ?", from.UnixNano(), to.UnixNano()).Order("link, at").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading what waited for links: %w", err)
	}
	out := make([]Waiting, len(rows))
	for i, r := range rows {
		out[i] = Waiting{r.Link, timeOf(r.At), r.RowsNow}
	}
	return out, nil
}

// Runs returns the times within a range in which the service ran, in order.
func (l Links) Runs(from, to time.Time) ([]Run, error) {
	var rows []runRow
	if err := l.file.Reader().Where("began < ? AND until > ?", to.UnixNano(), from.UnixNano()).Order("began").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading when the service ran: %w", err)
	}
	out := make([]Run, len(rows))
	for i, r := range rows {
		out[i] = Run{timeOf(r.Began), timeOf(r.Until)}
	}
	return out, nil
}
