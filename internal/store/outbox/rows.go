package outbox

// uplinkRow is the state of an uplink besides its marks.
type uplinkRow struct {
	Name        string `gorm:"primaryKey"`
	Tiers       string // as Tiers of the configuration, to see when they change
	Selects     string `gorm:"not null;default:''"` // as Scope.Selects, in the same way
	SweepNext   uint32 // everything of the series from this id on, to SweepLast, waits as well
	SweepLast   uint32
	Sent        uint64 // summaries acknowledged in all
	AckedAt     int64
	Peer        string `gorm:"not null;default:''"` // what the kind of uplink knows of its peer, see its package
	SentRecords string `gorm:"not null;default:''"` // of each kind of records, the change up to which they are acknowledged, as JSON
	GivenUp     uint64 // summaries that were dropped before they could be sent
}

func (uplinkRow) TableName() string { return "uplinks" }

// marksRow is the marks of an uplink for some neighbouring series.
type marksRow struct {
	Uplink string `gorm:"primaryKey"`
	Shard  uint32 `gorm:"primaryKey;autoIncrement:false"` // series id / shardSeries
	Data   []byte
}

func (marksRow) TableName() string { return "marks" }

// Tables returns the models of the tables that this package writes.
func Tables() []any {
	return []any{&uplinkRow{}, &marksRow{}}
}
