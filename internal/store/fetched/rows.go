package fetched

// spanRow is a time whose readings were asked for.
type spanRow struct {
	ID       uint64 `gorm:"primaryKey"`
	Series   string `gorm:"index:fetched_spans_place"`
	Began    int64  `gorm:"index:fetched_spans_place"`
	Ended    int64  // not included
	Until    int64  // when they go
	Complete bool   // all of them are here
	Live     bool   `gorm:"not null;default:0"` // they come as they are made
	Request  string `gorm:"index:fetched_spans_request"`
}

func (spanRow) TableName() string { return "fetched_spans" }

// partRow is some of the readings.
type partRow struct {
	ID       uint64 `gorm:"primaryKey"`
	Series   string `gorm:"index:fetched_place"`
	FirstAt  int64  `gorm:"index:fetched_place"`
	LastAt   int64
	Rows     int    `gorm:"column:row_count"`
	Until    int64  // when they go
	Checksum uint32 // of Payload
	Payload  []byte // a chunk
}

func (partRow) TableName() string { return "fetched" }

// Tables returns the models of the tables that this package writes.
func Tables() []any { return []any{&spanRow{}, &partRow{}} }
