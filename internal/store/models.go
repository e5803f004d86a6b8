package store

// The tables. Column names are GORM's, snake_case of the field names, and none is a word
// that a database reserves.

type seriesRow struct {
	ID        uint32 `gorm:"primaryKey;autoIncrement:false"`
	Path      string `gorm:"uniqueIndex;not null"`
	Kind      string
	Unit      string
	FreshFor  int64 // nanoseconds
	Wrap      float64
	Labels    string
	Sketch    bool
	States    string  `gorm:"not null;default:''"`
	Curve     string  `gorm:"not null;default:''"` // calibration
	Normal    string  `gorm:"not null;default:''"`
	Every     int64   `gorm:"not null;default:0"` // nanoseconds
	Tiers     string  `gorm:"not null;default:''"`
	Thinning  string  `gorm:"not null;default:''"`
	ThinnedTo int64   `gorm:"not null;default:0"` // readings before it were thinned
	Thinned   int64   `gorm:"not null;default:0"` // readings that were asked about
	Kept      int64   `gorm:"not null;default:0"` // of these
	Worst     float64 `gorm:"not null;default:0"` // error of those that went
	Collected bool    // its readings are here, not only its summaries
	FirstSeen int64   // oldest time of a row there ever was, as of the last seal; 0 without rows
	LastTime  int64   // the latest value, as of the last seal; 0 without rows
	LastValue float64 //
	Checksum  uint32  // of all the above, see sums.go
}

func (seriesRow) TableName() string { return "series" }

// journalRow is one Append. The store counts its ids, and never uses one again.
type journalRow struct {
	ID      uint64 `gorm:"primaryKey;autoIncrement:false"`
	Payload []byte
}

func (journalRow) TableName() string { return "journal" }

// chunkRow is a run of one series and tier. The columns of its rows stand in parts,
// and these in the order in which they are wanted: SQLite reads a row only as far as
// the last column that is asked for. A part that the kind has no columns for is NULL.
type chunkRow struct {
	ID       uint64 `gorm:"primaryKey;autoIncrement:false"`
	Series   uint32 `gorm:"index:chunks_place,priority:1"`
	Tier     int64  `gorm:"index:chunks_place,priority:2"` // nanoseconds; 0 is readings
	FirstAt  int64  `gorm:"index:chunks_place,priority:3"` // time of the first row
	LastAt   int64  // time of the last row
	Count    int    `gorm:"column:row_count"`
	Steps    int    // rows of steps; 0 when they would not help
	Checksum uint32 // of all the above, see sums.go; each payload has its own
	Whole    []byte // synopsis: one summary of all rows
	Step0    []byte // synopsis: a summary for every quarter of an hour, the columns of Part0
	Step1    []byte // and all others
	Part0    []byte
	Part1    []byte
	Part2    []byte
	Part3    []byte
}

func (chunkRow) TableName() string { return "chunks" }

// damagedRow is a row that could not be read, set aside as it was found, or a note of missing data.
type damagedRow struct {
	ID      uint64 `gorm:"primaryKey"`
	Found   int64
	Place   string // the table it stood in; "store" for what the store as a whole lacks
	Reason  string
	Series  uint32
	Tier    int64
	FirstAt int64
	LastAt  int64
	Count   int    `gorm:"column:row_count"`
	Raw     []byte // all payloads, one after the other
}

func (damagedRow) TableName() string { return "damaged" }

// sketchRow estimates percentiles of a quarter of an hour of one series.
type sketchRow struct {
	Series uint32 `gorm:"primaryKey;autoIncrement:false"`
	Start  int64  `gorm:"primaryKey;autoIncrement:false"`
	Data   []byte
}

func (sketchRow) TableName() string { return "sketches" }

// uplinkRow is the state of an uplink besides its marks.
type uplinkRow struct {
	Name      string `gorm:"primaryKey"`
	Tiers     string // as Tiers of the configuration, to see when they change
	SweepNext uint32 // everything of the series from this id on, to SweepLast, waits as well
	SweepLast uint32
	Life      string // the central's, of the last acknowledgement
	Stored    uint64 // its count of stored batches then
	Sent      uint64 // summaries acknowledged in all
	AckedAt   int64
	Sessions  string // of the senders there were, the newest last, with spaces between
	GivenUp   uint64 // summaries that were dropped before they could be sent
}

func (uplinkRow) TableName() string { return "uplinks" }

// marksRow is the marks of an uplink for some neighbouring series.
type marksRow struct {
	Uplink string `gorm:"primaryKey"`
	Shard  uint32 `gorm:"primaryKey;autoIncrement:false"` // series id / shardSeries
	Data   []byte
}

func (marksRow) TableName() string { return "marks" }

// cursorRow is the progress of a gateway that replicates to here.
type cursorRow struct {
	Name    string `gorm:"primaryKey"`
	Life    string // ours, when the last batch was stored
	Stored  uint64 // batches of it stored in all
	Lives   string // earlier lives, with what was stored when each ended
	Rows    uint64 `gorm:"column:row_count"`
	Updated int64
	Session string // of the gateway's process that was heard last
	Sent    uint64 // its number of that request
	Retired string // earlier sessions, with what was stored when each ended
	Dropped uint64 // what was stored when the newest ended that is not in Retired any more
	Status  []byte
}

func (cursorRow) TableName() string { return "cursors" }

type rejectRow struct {
	ID       uint64 `gorm:"primaryKey;autoIncrement:false"`
	Time     int64
	Source   string
	Place    string
	Reason   string
	Raw      []byte
	Rule     string   `gorm:"not null;default:''"` // that refused it
	Series   string   `gorm:"not null;default:''"` // its path; empty of what could not be read
	Value    *float64 // before it was calibrated
	Text     string   `gorm:"not null;default:''"` // instead of Value: the name of a state
	Unit     string   `gorm:"not null;default:''"`
	At       int64    `gorm:"not null;default:0"` // time of the reading
	Replayed int64    `gorm:"not null;default:0"` // when it counted after all
}

func (rejectRow) TableName() string { return "rejects" }

// rejectCountRow counts the rejects of an hour.
type rejectCountRow struct {
	Hour   int64  `gorm:"primaryKey;autoIncrement:false"` // seconds since 1970
	Source string `gorm:"primaryKey"`
	Rule   string `gorm:"primaryKey"`
	Count  int64  `gorm:"column:row_count"`
}

func (rejectCountRow) TableName() string { return "reject_counts" }

type stateRow struct {
	Name    string `gorm:"primaryKey"`
	Payload []byte
}

func (stateRow) TableName() string { return "states" }

// versionRow is a definition as it was from a time on.
type versionRow struct {
	ID         uint64 `gorm:"primaryKey"`
	Series     uint32 `gorm:"index:versions_place,priority:1"`
	Since      int64  `gorm:"index:versions_place,priority:2"`
	Definition []byte // JSON
}

func (versionRow) TableName() string { return "versions" }

// pushRow is a request of a sender that may come again, with the time at which it came first.
type pushRow struct {
	Request string `gorm:"primaryKey"` // sender and key
	Arrived int64  `gorm:"index"`      // nanoseconds since 1970
	Digest  []byte // SHA-256 of its body; empty of rows that an older version wrote
}

func (pushRow) TableName() string { return "pushes" }
