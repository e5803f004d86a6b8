package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Wanted says what a Scan is to bring of a series.
type Wanted struct {
	Tier     series.Tier
	From, To int64       // of the rows' times; To not included
	Need     rollup.Need // columns of summaries

	// Cut reports whether rows of from <= time < to must be told apart from each other.
	// Where they need not be, a synopsis may stand for them. nil: always.
	Cut func(from, to int64) bool
	// Steps allows summaries of a quarter of an hour in place of those of the tier.
	Steps bool
	// Tells, if given, reports whether a summary says all that is wanted of its time. Where one does not, the rows
	// come, whatever Cut and Steps allow.
	Tells func(from, to int64, sum *rollup.Summary) bool
	// Keep says that the sink keeps what it gets; otherwise a block lives only until the
	// next comes.
	Keep bool
	// Ahead, if given, has what was read of this series with others.
	Ahead *Prefetch
	// Work, if given, takes what was read.
	Work *ScanStats
	// Pause, if given, is called before each chunk; an error of it ends the scan.
	Pause func() error
}

// Sink takes what a Scan brings, in order of time. Blocks share memory with the store
// and must not be changed; columns that are not needed may be nil.
type Sink interface {
	// Rows are readings (width 0), or summaries of windows width long; the first and
	// the last of a block may be of a part of their window.
	Rows(b column.Block, width int64) error
	// Whole is the summary of all rows with from <= time < to.
	Whole(from, to int64, s rollup.Summary) error
}

// Scan brings a series' rows to the sink, chunk by chunk.
// Chunks that cannot be read are left out and set aside.
func (e *Engine) Scan(ctx context.Context, id uint32, w Wanted, sink Sink) error {
	known, ok := e.Get(id)
	if !ok {
		return nil // what is not in the catalogue has no rows
	}
	at := seriesTier{id, w.Tier}
	sc := scan{
		engine: e,
		ctx:    ctx,
		series: known,
		at:     at,
		want:   w,
		sink:   sink,
		work:   w.Work.of(w.Tier),
	}
	if !w.Keep {
		sc.room, sc.rowRoom = spare.Get().(*buffers), spare.Get().(*buffers)
		defer spare.Put(sc.room)
		defer spare.Put(sc.rowRoom)
	}
	err := sc.begin()
	if err == nil {
		err = sc.run()
	}
	if err != nil {
		if ctx.Err() == nil && sc.ended == nil {
			err = e.file.SetTrouble("reading", err)
		}
		return fmt.Errorf("reading %s: %w", known.Path, err)
	}
	e.file.ClearTrouble("reading")
	return e.file.SetAside(sc.broken)
}

type scan struct {
	engine  *Engine
	ctx     context.Context
	series  Series
	at      seriesTier
	want    Wanted
	sink    Sink
	from    int64        // everything before it has been brought
	tray    column.Block // what is left of it, and of patches
	broken  []sqlite.Damaged
	ended   error    // what the sink said to end the scan, which is no fault of the store
	room    *buffers // nil when blocks are kept
	rowRoom *buffers // of rows that come between steps
	work    *TierStats
	read    bool           // the first list was read with others
	ahead   []sqlite.Chunk // which is this
}

// db is made only where something is read: of most series everything was read ahead.
func (sc *scan) db() *gorm.DB { return sc.engine.file.Reader().WithContext(sc.ctx) }

// begin reads what hides rows of chunks: the tray and, after it, the patches. A seal in between moves rows from
// there to here, and then to chunks, which are read last.
func (sc *scan) begin() (err error) {
	w := &sc.want
	var tray, patched column.Block
	if read, ok := w.Ahead.take(sc.at.series, *w); ok {
		tray, sc.read, sc.ahead = read.tray, true, read.chunks
		patched, sc.broken, err = mergedPatches(read.patches, w.Need)
		patched = patched.Between(w.From, w.To)
	} else {
		tray = sc.engine.inTray(sc.at, w.From, w.To)
		patched, sc.broken, err = sc.engine.patchedBetween(sc.db(), sc.at, w.From, w.To, w.Need)
	}
	if err != nil {
		return err
	}
	if sc.at.tier != series.Readings {
		tray = tray.Pick(w.Need.Has)
	}
	sc.tray = column.Merge(patched, tray)
	sc.work.Rows += sc.tray.Len()
	return nil
}

// stepsAtOnce is a range so short that the steps of its chunks are read with the list of them.
const stepsAtOnce = int64(3 * 24 * time.Hour)

// listAtOnce is how many chunks a scan knows of at a time.
const listAtOnce = 64

// run goes from chunk to chunk. Chunks never overlap, so when one has been replaced
// since it was listed, the list is taken again from where it began: what stands there
// now has all of its rows.
func (sc *scan) run() error {
	sc.from = sc.want.From
	until, err := sc.engine.sealedUntil(sc.ctx, sc.at)
	if err != nil {
		return err
	}
	if until < sc.from {
		return sc.emit(sc.tray, int64(sc.at.tier)) // all there is
	}
	for {
		chunks, err := sc.list()
		if err != nil {
			return err
		}
		if err := sc.fetchSteps(chunks); err != nil {
			return err
		}
		for _, c := range chunks {
			if err = sc.paused(); err != nil {
				break
			}
			if err = sc.one(c); err != nil {
				break
			}
			sc.from = max(sc.from, c.LastAt+1)
		}
		switch {
		case errors.Is(err, sqlite.ErrGone):
			continue
		case err != nil:
			return err
		case len(chunks) < listAtOnce:
			return sc.emit(sc.tray, int64(sc.at.tier))
		}
	}
}

func (sc *scan) paused() error {
	if sc.want.Pause == nil {
		return nil
	}
	sc.ended = sc.want.Pause() // which is no fault of the store
	return sc.ended
}

// list returns the next chunks, in order, without their parts.
func (sc *scan) list() (out []sqlite.Chunk, err error) {
	if sc.read {
		sc.read = false
		return sc.ahead, nil
	}
	return sqlite.ChunksBetween(sc.db(), sc.at.series, int64(sc.at.tier), sc.from, sc.want.To, sc.want.listed(sc.from),
		listAtOnce)
}

// fetchSteps reads the steps of those chunks that they will be wanted of, in one go.
func (sc *scan) fetchSteps(chunks []sqlite.Chunk) error {
	var wanted []uint64
	place := map[uint64]int{}
	for i, c := range chunks {
		if sc.want.Steps && c.Steps > 0 && c.Step0 == nil && (sc.want.Cut == nil || sc.want.Cut(c.FirstAt, until(&c))) {
			wanted = append(wanted, c.ID)
			place[c.ID] = i
		}
	}
	if len(wanted) < 2 {
		return nil
	}
	found, err := sqlite.ChunksOf(sc.db(), wanted, stepParts(sc.want.Need))
	if err != nil {
		return err
	}
	for _, c := range found {
		to := &chunks[place[c.ID]]
		to.Step0, to.Step1 = c.Step0, c.Step1
	}
	return nil
}

// one brings what the tray has before a chunk, and the chunk. When it is not there any
// more, nothing of it has been brought; what came before it must not be brought again,
// should a seal have moved that into a chunk meanwhile.
func (sc *scan) one(c sqlite.Chunk) error {
	k := sc.tray.Search(c.FirstAt)
	if err := sc.emit(sc.tray.Rows(0, k), c.Tier); err != nil {
		return err
	}
	sc.tray = sc.tray.Rows(k, sc.tray.Len())
	sc.from = max(sc.from, c.FirstAt)
	late := sc.tray.Search(c.LastAt + 1)
	if err := sc.chunk(&c, sc.tray.Rows(0, late)); err != nil {
		return err
	}
	sc.tray = sc.tray.Rows(late, sc.tray.Len())
	return nil
}

func (sc *scan) emit(b column.Block, width int64) error {
	if b.Len() == 0 {
		return nil
	}
	sc.ended = sc.sink.Rows(b, width)
	return sc.ended
}

func (sc *scan) emitWhole(from, to int64, sum rollup.Summary) error {
	sc.ended = sc.sink.Whole(from, to, sum)
	return sc.ended
}

// chunk brings one chunk, with the late rows of the tray that fall into it, from what
// says enough with the least effort.
func (sc *scan) chunk(c *sqlite.Chunk, late column.Block) error {
	if err := check(c); err != nil {
		return sc.spoilt(c, err, late)
	}
	inside := c.FirstAt >= sc.from && c.LastAt < sc.want.To
	if late.Len() == 0 && inside && sc.want.Cut != nil && !sc.want.Cut(c.FirstAt, until(c)) {
		if sum, err := wholeOf(c, sc.series.Kind); err == nil && sc.want.tells(c.FirstAt, until(c), &sum) {
			sc.work.Synopses++
			sc.work.Bytes += len(c.Whole)
			return sc.emitWhole(c.FirstAt, until(c), sum)
		}
	}
	wholeSteps := c.FirstAt >= sc.from || sc.from == sc.want.From // a step is not cut
	if late.Len() == 0 && sc.want.Steps && wholeSteps && c.Steps > 0 {
		if done, err := sc.steps(c); done || err != nil {
			return err
		}
	}
	rows, err := sc.rows(c, sc.room)
	if err != nil {
		return sc.spoilt(c, err, late)
	}
	rows = rows.Between(sc.from, sc.want.To)
	return sc.emit(column.Merge(rows, late), c.Tier)
}

// tells reports whether a summary will do.
func (w *Wanted) tells(from, to int64, sum *rollup.Summary) bool {
	return w.Tells == nil || w.Tells(from, to, sum)
}

// steps brings the chunk as quarters of an hour, and those that do not tell enough as rows; the last of them by
// itself, as it may end with the chunk. Steps that cannot be read are no reason to give up: the rows say
// the same.
func (sc *scan) steps(c *sqlite.Chunk) (done bool, err error) {
	parts := stepParts(sc.want.Need)
	if c.Step0 == nil {
		if err := c.Read(sc.db(), parts); err != nil {
			return false, err
		}
	}
	steps, err := stepsIn(c, parts, sc.want.Need, sc.room)
	if err != nil {
		return false, nil
	}
	sc.work.Steps++
	sc.work.Bytes += len(c.Step0) + len(c.Step1)
	if sc.want.Tells == nil {
		return true, sc.quarters(c, steps, 0, steps.Len())
	}
	open, rows := sc.silent(c, steps), column.Block{}
	if len(open) > 0 { // before anything of the chunk is brought
		if rows, err = sc.rows(c, sc.rowRoom); errors.Is(err, chunk.ErrDamaged) {
			return false, nil // it is read again, and set aside
		} else if err != nil {
			return false, err
		}
	}
	next := 0
	for _, i := range open {
		if err := sc.quarters(c, steps, next, i); err != nil {
			return true, err
		}
		end := until(c)
		if next = i + 1; next < steps.Len() {
			end = steps.Times[next]
		}
		if err := sc.emit(rows.Between(max(steps.Times[i], sc.want.From), min(end, sc.want.To)), c.Tier); err != nil {
			return true, err
		}
	}
	return true, sc.quarters(c, steps, next, steps.Len())
}

// silent returns which of the steps do not tell enough.
func (sc *scan) silent(c *sqlite.Chunk, steps column.Block) (open []int) {
	for i, t := range steps.Times {
		sum := rollup.FromRow(steps, i, sc.series.Kind)
		if t < sc.want.To && !sc.want.Tells(t, stepEnd(c, steps, i), &sum) {
			open = append(open, i)
		}
	}
	return open
}

// stepEnd returns the end of the time that a step is of.
func stepEnd(c *sqlite.Chunk, steps column.Block, i int) int64 {
	t := steps.Times[i]
	if i == steps.Len()-1 {
		return until(c)
	}
	return t - t%stepWidth + stepWidth
}

// quarters brings the steps from i to k.
func (sc *scan) quarters(c *sqlite.Chunk, steps column.Block, i, k int) error {
	last := steps.Len() - 1
	if err := sc.emit(steps.Rows(i, max(i, min(k, last))).Between(sc.want.From, sc.want.To), stepWidth); err != nil {
		return err
	}
	if k <= last || i > last || steps.Times[last] < sc.want.From || steps.Times[last] >= sc.want.To {
		return nil
	}
	return sc.emitWhole(steps.Times[last], until(c), rollup.FromRow(steps, last, sc.series.Kind))
}

// rows decodes the needed columns of a chunk.
func (sc *scan) rows(c *sqlite.Chunk, room *buffers) (column.Block, error) {
	parts := chunkParts(sc.want.Tier, sc.want.Need)
	if err := c.Read(sc.db(), parts); err != nil {
		return column.Block{}, err
	}
	rows, err := rowsOf(c, parts, sc.want.Need, room)
	if err == nil {
		sc.work.Opened++
		sc.work.Rows += rows.Len()
		sc.work.Bytes += c.Size()
	}
	return rows, err
}

// spoilt notes a chunk that cannot be read and brings only what the tray has of its
// time.
func (sc *scan) spoilt(c *sqlite.Chunk, cause error, late column.Block) error {
	if !errors.Is(cause, chunk.ErrDamaged) {
		return cause
	}
	found := sqlite.Chunk{ID: c.ID}
	if err := found.ReadAll(sc.db()); err != nil {
		return err // when it is gone, someone else was first
	}
	sc.broken = append(sc.broken, found.Damage(cause))
	return sc.emit(late, c.Tier)
}
