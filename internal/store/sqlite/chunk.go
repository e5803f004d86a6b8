package sqlite

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"
)

// Chunk is a run of one series and tier. The columns of its rows stand in parts, and these in
// the order in which they are wanted: SQLite reads a row only as far as the last column that
// is asked for. A part that the kind has no columns for is NULL.
type Chunk struct {
	ID       uint64 `gorm:"primaryKey;autoIncrement:false"`
	Series   uint32 `gorm:"index:chunks_place,priority:1"`
	Tier     int64  `gorm:"index:chunks_place,priority:2"` // nanoseconds; 0 is readings
	FirstAt  int64  `gorm:"index:chunks_place,priority:3"` // time of the first row
	LastAt   int64  // time of the last row
	Count    int    `gorm:"column:row_count"`
	Steps    int    // rows of steps; 0 when they would not help
	Checksum uint32 // of all the above; each payload has its own
	Whole    []byte // synopsis: one summary of all rows
	Step0    []byte // synopsis: a summary for every quarter of an hour, the columns of Part0
	Step1    []byte // and all others
	Part0    []byte
	Part1    []byte
	Part2    []byte
	Part3    []byte
}

// TableName names the table.
func (Chunk) TableName() string { return "chunks" }

// Part names a payload of a chunk, in the order in which they stand in a row.
type Part int

const (
	Whole Part = iota
	Step0
	Step1
	Part0
	Part1
	Part2
	Part3
)

// AllParts are all of them.
var AllParts = []Part{Whole, Step0, Step1, Part0, Part1, Part2, Part3}

var partNames = [...]string{"whole", "step0", "step1", "part0", "part1", "part2", "part3"}

// Payload returns where a part stands.
func (c *Chunk) Payload(p Part) *[]byte {
	return [...]*[]byte{&c.Whole, &c.Step0, &c.Step1, &c.Part0, &c.Part1, &c.Part2, &c.Part3}[p]
}

// Size returns how many bytes the payloads have.
func (c *Chunk) Size() (bytes int) {
	for p := Whole; p <= Part3; p++ {
		bytes += len(*c.Payload(p))
	}
	return bytes
}

// Complete makes the row ready to be written.
func (c *Chunk) Complete() { c.Checksum = c.sum() }

// Matches reports whether what stands beside the payloads is as it was written.
func (c *Chunk) Matches() bool { return c.Checksum == c.sum() }

// Damage returns a chunk as it is set aside.
func (c Chunk) Damage(cause error) Damaged {
	var raw []byte
	for p := Whole; p <= Part3; p++ {
		raw = append(raw, *c.Payload(p)...)
	}
	return Damaged{
		ID:      c.ID,
		Place:   "chunks",
		Reason:  cause.Error(),
		Series:  c.Series,
		Tier:    c.Tier,
		FirstAt: c.FirstAt,
		LastAt:  c.LastAt,
		Count:   c.Count,
		Raw:     raw,
	}
}

// ErrGone says that a chunk is not there any more: another has taken its place.
var ErrGone = errors.New("the chunk was replaced")

const plainColumns = "id, series, tier, first_at, last_at, row_count, steps, checksum"

func selected(parts []Part) string {
	columns := plainColumns
	for _, p := range parts {
		columns += ", " + partNames[p]
	}
	return columns
}

// fewChunks is how many most lists have.
const fewChunks = 4

func chunksOf(query *gorm.DB, parts []Part) (out []Chunk, err error) {
	rows, err := query.Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out = make([]Chunk, 0, fewChunks)
	var c Chunk
	into := []any{number(&c.ID), number(&c.Series), number(&c.Tier), number(&c.FirstAt), number(&c.LastAt), number(&c.Count),
		number(&c.Steps), number(&c.Checksum)}
	for _, p := range parts {
		into = append(into, (*blob)(c.Payload(p)))
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, rows.Err()
}

// ChunksBetween returns the next chunks of a series and tier with rows of from <= time < to, in
// order of time, with the named parts.
func ChunksBetween(db *gorm.DB, series uint32, tier, from, to int64, parts []Part, most int) ([]Chunk, error) {
	return chunksOf(db.Raw("SELECT "+selected(parts)+" FROM chunks WHERE series = ? AND tier = ? AND first_at < ? AND last_at >= ? ORDER BY first_at LIMIT ?",
		series, tier, to, from, most), parts)
}

// ChunksOfMany returns all such chunks of many series, by series and time. The ids are one argument, as a statement
// with one for each takes as long to prepare as to run.
func ChunksOfMany(db *gorm.DB, series []uint32, tier, from, to int64, parts []Part) ([]Chunk, error) {
	ids, err := json.Marshal(series)
	if err != nil {
		return nil, err
	}
	return chunksOf(db.Raw("SELECT "+selected(parts)+" FROM chunks WHERE series IN (SELECT value FROM json_each(?)) AND tier = ? AND first_at < ? AND last_at >= ? ORDER BY series, first_at",
		string(ids), tier, to, from), parts)
}

// ChunksAfter returns the chunks that follow one, by series, tier and time, with all their parts.
func ChunksAfter(db *gorm.DB, before Chunk, most int) ([]Chunk, error) {
	if before.ID == 0 {
		return chunksOf(db.Raw("SELECT "+selected(AllParts)+" FROM chunks ORDER BY series, tier, first_at LIMIT ?", most), AllParts)
	}
	return chunksOf(db.Raw("SELECT "+selected(AllParts)+" FROM chunks WHERE (series, tier, first_at) > (?, ?, ?) ORDER BY series, tier, first_at LIMIT ?",
		before.Series, before.Tier, before.FirstAt, most), AllParts)
}

// ChunksOf returns those chunks with the ids that are still there.
func ChunksOf(db *gorm.DB, ids []uint64, parts []Part) ([]Chunk, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	return chunksOf(db.Raw("SELECT "+selected(parts)+" FROM chunks WHERE id IN ?", ids), parts)
}

// ChunkFrom returns the chunk that t falls into or, without one, the next after t; its ID is
// 0 when there is none. Chunks do not overlap.
func ChunkFrom(db *gorm.DB, series uint32, tier, t int64) (c Chunk, err error) {
	if c, err = ChunkBefore(db, series, tier, t+1); err != nil || c.ID != 0 && c.LastAt >= t {
		return c, err
	}
	c = Chunk{}
	err = db.Raw("SELECT "+plainColumns+" FROM chunks WHERE series = ? AND tier = ? AND first_at > ? ORDER BY first_at LIMIT 1",
		series, tier, t).Scan(&c).Error
	return c, err
}

// ChunkBefore returns the last chunk that begins before t.
func ChunkBefore(db *gorm.DB, series uint32, tier, t int64) (c Chunk, err error) {
	err = db.Raw("SELECT "+plainColumns+" FROM chunks WHERE series = ? AND tier = ? AND first_at < ? ORDER BY first_at DESC LIMIT 1",
		series, tier, t).Scan(&c).Error
	return c, err
}

// SeriesTier names the chunks of a series at a tier.
type SeriesTier struct {
	Series uint32
	Tier   int64
}

// LastChunks returns the last chunks of each series and tier, at most so many, the newest first and without payloads.
func LastChunks(db *gorm.DB, places []SeriesTier, most int) ([]Chunk, error) {
	list := []byte{'['}
	for i, p := range places {
		if i > 0 {
			list = append(list, ',')
		}
		list = fmt.Appendf(list, "[%d,%d]", p.Series, p.Tier)
	}
	return chunksOf(db.Raw("SELECT "+plainColumns+" FROM chunks WHERE id IN (SELECT last.value FROM json_each(?) AS place, "+
		"json_each((SELECT json_group_array(id) FROM (SELECT id FROM chunks WHERE series = place.value ->> 0 AND tier = place.value ->> 1 "+
		"ORDER BY first_at DESC LIMIT ?))) AS last) ORDER BY series, tier, first_at DESC", string(append(list, ']')), most), nil)
}

// Read fills in parts of the chunk; ErrGone says that it is not there any more.
func (c *Chunk) Read(db *gorm.DB, parts []Part) error {
	names := make([]string, len(parts))
	into := make([]any, len(parts))
	for i, p := range parts {
		names[i], into[i] = partNames[p], (*blob)(c.Payload(p))
	}
	rows, err := db.Raw("SELECT "+strings.Join(names, ", ")+" FROM chunks WHERE id = ?", c.ID).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	if !rows.Next() {
		return cmp.Or(rows.Err(), ErrGone)
	}
	return rows.Scan(into...)
}

// ReadAll reads the row of the chunk with its id; ErrGone says that it is not there any more.
func (c *Chunk) ReadAll(db *gorm.DB) error {
	id := c.ID
	*c = Chunk{}
	err := db.Take(c, id).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrGone
	}
	return err
}

// ReplaceChunks takes chunks away and puts others there.
func ReplaceChunks(tx *gorm.DB, old []uint64, fresh []Chunk) error {
	for some := range slices.Chunk(old, 500) {
		if err := tx.Exec("DELETE FROM chunks WHERE id IN ?", some).Error; err != nil {
			return err
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	return tx.CreateInBatches(fresh, 50).Error
}
