package outbox

import (
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/store/sqlite"
)

// change is what of an outbox is not in the file yet.
type change struct {
	outbox *Outbox
	row    uplinkRow
	shards map[uint32][]byte // nil: nothing is marked there any more
}

func (o *Outbox) unsaved() *change {
	o.mu.Lock()
	defer o.mu.Unlock()
	byShard := map[uint32][]marks.Mark{}
	o.each(func(m marks.Mark) { byShard[m.Series/shardSeries] = append(byShard[m.Series/shardSeries], m) })
	c := &change{outbox: o, row: o.row, shards: map[uint32][]byte{}}
	for shard, all := range byShard {
		data := marks.Encode(all)
		if sum, ok := o.saved.shards[shard]; !ok || sum != sqlite.Sum(data) {
			c.shards[shard] = data
		}
	}
	for shard := range o.saved.shards {
		if byShard[shard] == nil {
			c.shards[shard] = nil
		}
	}
	return c
}

func (c *change) write(tx *gorm.DB) error {
	o := c.outbox
	if c.row != o.saved.row {
		if err := sqlite.Put(tx, &c.row); err != nil {
			return fmt.Errorf("writing uplink %s: %w", o.name, err)
		}
	}
	for shard, data := range c.shards {
		row := marksRow{Uplink: o.name, Shard: shard, Data: data}
		var err error
		if data == nil {
			err = tx.Where("uplink = ? AND shard = ?", o.name, shard).Delete(&marksRow{}).Error
		} else {
			err = sqlite.Put(tx, &row)
		}
		if err != nil {
			return fmt.Errorf("writing the marks of %s: %w", o.name, err)
		}
	}
	return nil
}

// saved notes that the change is on disk.
func (c *change) written() {
	o := c.outbox
	o.mu.Lock()
	defer o.mu.Unlock()
	o.saved.row, o.saved.at = c.row, o.boxes.judge.Now()
	for shard, data := range c.shards {
		if data == nil {
			delete(o.saved.shards, shard)
		} else {
			o.saved.shards[shard] = sqlite.Sum(data)
		}
	}
}

// Save writes how far the outbox has come, if marks that stand in the file have been
// acknowledged since and the last time is a while ago. Without it, a crash only means
// that more is sent once more.
func (o *Outbox) Save() error {
	o.mu.Lock()
	now := o.boxes.judge.Now()
	due := (len(o.saved.shards) > 0 || o.saved.row.SweepNext != o.row.SweepNext ||
		o.saved.row.SentRecords != o.row.SentRecords) && now.Sub(o.saved.at) >= freshFor
	o.mu.Unlock()
	if !due {
		return nil
	}
	return o.boxes.file.Write(func(w sqlite.Writer) error {
		c := o.unsaved()
		if err := w.Transaction(c.write); err != nil {
			return fmt.Errorf("saving how far uplink %s has come: %w", o.name, err)
		}
		c.written()
		return nil
	})
}
