package store

// The tables. Column names are GORM's: snake_case of the field names.

type seriesRow struct {
	ID        uint32 `gorm:"primaryKey"`
	Path      string `gorm:"uniqueIndex;not null"`
	Kind      string
	Unit      string
	FreshFor  int64 // nanoseconds
	Wrap      float64
	Labels    string
	Sketch    bool
	FirstSeen int64 // oldest time of a row there ever was, as of the last seal; 0 without rows
	LastTime  int64 // the latest value, as of the last seal; 0 without rows
	LastValue float64
}

func (seriesRow) TableName() string { return "series" }

type journalRow struct {
	ID      uint64 `gorm:"primaryKey;autoIncrement"`
	Payload []byte
}

func (journalRow) TableName() string { return "journal" }

// chunkRow is a run of one series and tier. The columns of its rows stand in parts,
// and these in the order in which they are wanted: SQLite reads a row only as far as
// the last column that is asked for. A part that the kind has no columns for is NULL.
type chunkRow struct {
	ID     uint64 `gorm:"primaryKey;autoIncrement"`
	Series uint32 `gorm:"index:chunks_place,priority:1"`
	Tier   int64  `gorm:"index:chunks_place,priority:2"` // nanoseconds; 0 is readings
	Start  int64  `gorm:"index:chunks_place,priority:3"` // first time
	End    int64  // last time
	Rows   int
	Step   int    // rows of steps; 0 when they would not help
	Whole  []byte // synopsis: one summary of all rows
	Step0  []byte // synopsis: a summary for every quarter of an hour, the columns of Part0
	Step1  []byte // and all others
	Part0  []byte
	Part1  []byte
	Part2  []byte
	Part3  []byte
}

func (chunkRow) TableName() string { return "chunks" }

// damagedRow is what could not be read, set aside as it was found.
type damagedRow struct {
	ID     uint64 `gorm:"primaryKey;autoIncrement"`
	Found  int64
	Place  string // the table it stood in
	Reason string
	Series uint32
	Tier   int64
	Start  int64
	End    int64
	Rows   int
	Raw    []byte // all payloads, one behind the other
}

func (damagedRow) TableName() string { return "damaged" }

// sketchRow estimates percentiles of a quarter of an hour of one series.
type sketchRow struct {
	Series uint32 `gorm:"primaryKey;autoIncrement:false"`
	Start  int64  `gorm:"primaryKey;autoIncrement:false"`
	Data   []byte
}

func (sketchRow) TableName() string { return "sketches" }

type outboxRow struct {
	Uplink  string `gorm:"primaryKey"`
	Seq     uint64 `gorm:"primaryKey;autoIncrement:false"`
	Created int64
	Rows    int
	Payload []byte
}

func (outboxRow) TableName() string { return "outbox" }

type cursorRow struct {
	Name    string `gorm:"primaryKey"`
	Epoch   string
	Seq     uint64
	Updated int64
	Rows    uint64
	Status  []byte
}

func (cursorRow) TableName() string { return "cursors" }

type rejectRow struct {
	ID     uint64 `gorm:"primaryKey;autoIncrement"`
	Time   int64
	Source string
	Place  string
	Reason string
	Raw    []byte
}

func (rejectRow) TableName() string { return "rejects" }

type stateRow struct {
	Name    string `gorm:"primaryKey"`
	Payload []byte
}

func (stateRow) TableName() string { return "states" }
