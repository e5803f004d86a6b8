package store

import (
	"fmt"
	"hash/crc32"

	"gorm.io/gorm"

	"nexocumula/internal/core/marks"
)

// outboxChange holds the changes of an outbox that are not in the file yet.
type outboxChange struct {
	outbox *Outbox
	row    uplinkRow
	shards map[uint32][]byte // nil: nothing is marked there any more
}

// outboxChanges returns the changes of all outboxes. write is held, so nothing is marked meanwhile.
func (s *Store) outboxChanges() (all []*outboxChange) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, o := range s.outboxes {
		all = append(all, o.change())
	}
	return all
}

func (o *Outbox) change() *outboxChange {
	o.mu.Lock()
	defer o.mu.Unlock()
	byShard := map[uint32][]marks.Mark{}
	o.each(func(m marks.Mark) { byShard[m.Series/shardSeries] = append(byShard[m.Series/shardSeries], m) })
	c := &outboxChange{outbox: o, row: o.row, shards: map[uint32][]byte{}}
	for shard, all := range byShard {
		data := marks.Encode(all)
		if sum, ok := o.savedShards[shard]; !ok || sum != crc32.Checksum(data, castagnoli) {
			c.shards[shard] = data
		}
	}
	for shard := range o.savedShards {
		if byShard[shard] == nil {
			c.shards[shard] = nil
		}
	}
	return c
}

func (c *outboxChange) write(tx *gorm.DB) error {
	o := c.outbox
	if c.row != o.savedRow {
		if err := put(tx, &c.row); err != nil {
			return fmt.Errorf("writing uplink %s: %w", o.name, err)
		}
	}
	for shard, data := range c.shards {
		row := marksRow{Uplink: o.name, Shard: shard, Data: data}
		var err error
		if data == nil {
			err = tx.Where("uplink = ? AND shard = ?", o.name, shard).Delete(&marksRow{}).Error
		} else {
			err = put(tx, &row)
		}
		if err != nil {
			return fmt.Errorf("writing the marks of %s: %w", o.name, err)
		}
	}
	return nil
}

// saved notes that the change is on disk.
func (c *outboxChange) saved() {
	o := c.outbox
	o.mu.Lock()
	defer o.mu.Unlock()
	o.savedRow, o.savedAt = c.row, o.store.judge.Now()
	for shard, data := range c.shards {
		if data == nil {
			delete(o.savedShards, shard)
		} else {
			o.savedShards[shard] = crc32.Checksum(data, castagnoli)
		}
	}
}

// Save writes how far the outbox has come, if marks that stand in the file have been
// acknowledged since and the last time is a while ago. Without it, a crash only means
// that more is sent once more.
func (o *Outbox) Save() error {
	o.mu.Lock()
	now := o.store.judge.Now()
	due := (len(o.savedShards) > 0 || o.savedRow.SweepNext != o.row.SweepNext) && now.Sub(o.savedAt) >= freshFor
	o.mu.Unlock()
	if !due {
		return nil
	}
	o.store.write.Lock()
	defer o.store.write.Unlock()
	c := o.change()
	if err := o.store.db.Transaction(c.write); err != nil {
		return fmt.Errorf("saving how far uplink %s has come: %w", o.name, err)
	}
	c.saved()
	return nil
}
