package chunk

// Layout, version 2. All integers are varints as in Go's encoding/binary (unsigned
// LEB128; signed ones zigzag first) unless a size is given; those are little-endian.
//
//	offset  size  what
//	0       1     version, 2
//	1       1     form of the body: 0 plain, 1 packed
//	2       4     CRC-32C (RFC 3720, B.4) of everything from offset 6 on
//	6       -     the body
//
// Plain, quick to write, for what is soon rewritten:
//
//	uvarint       rows, at least 1
//	uvarint       value columns
//	varint        the first time, nanoseconds since 1970
//	varint × r-1  the difference from one time to the next, minus the difference before it
//	per column:
//	  1 byte      0: one value for all rows; 1: a value per row
//	  8 × 1 or r  the IEEE 754 bits of the values
//
// Packed, small and quick to read, with the columns apart:
//
//	uvarint       rows, at least 1
//	uvarint       value columns
//	uvarint × c+1 length in bytes of each stream
//	streams       the times, then each column
//
// A stream of times begins with its form and the unit, the largest power of ten of
// nanoseconds that divides all differences:
//
//	1 byte        0: differences; 1: distances from a grid; 2: the same, a row at every point
//	varint        the first time, nanoseconds since 1970
//	1 byte        exponent of the unit
//	differences:  packed: from one time to the next, in units, r-1 of them
//	grid:         uvarint span, uvarint steps: the grid has steps+1 points, evenly over span
//	              units from the first time on; point k is at floor(k·span/steps)
//	              packed, not with a row at every point: points from one row's to the
//	              next's, r-1 of them
//	              packed: distances of the times from their points, in units, r-1 of them
//
// Polled series keep to a grid, so that distances cost as much as the jitter is wide,
// and differences of differences four times that.
//
// A stream of values begins with its form:
//
//	0 constant    8 bytes: the bits of the one value
//	1 decimal     1 byte exponent e; varint low, uvarint span: all integers are from low
//	              to low + span; uvarint n, then n times uvarint row (from the row
//	              before) and 8 bytes: rows whose bits are given; packed: integers v, one a
//	              row; the value is v / 10^e, correctly rounded. A block whose width has 64
//	              added holds differences from one integer to the next, the very first
//	              from 0
//	5 narrow      the same, but the value is v / 10^e rounded once more, to 32 bits
//	2 bits        8 byte planes, most significant first, as one zstd frame (RFC 8878)
//	3 runs        uvarint n, then n times 8 bytes: the bits of the values there are;
//	              uvarint runs; packed: of each run, which of the values; packed: of each
//	              run, how many rows it has, minus 1
//	4 raw         8 bytes a row: the bits
//
// Packed integers come in blocks of 256, the last one shorter:
//
//	varint        base
//	1 byte        width w in bits, 0 to 64, and 128 when there are exceptions
//	1 byte        only then: exceptions x
//	⌈rows·w/8⌉    the integers minus base, w bits each, least significant bit first
//	x bytes       rows of the exceptions, ascending
//	varint × x    their integers minus base, which the w bits do not hold
//
// Times strictly ascend. Values keep their exact bits.
const (
	version    = 2
	headerSize = 6

	bodyPlain  = 0
	bodyPacked = 1

	columnConstant = 0
	columnFull     = 1

	timesDifferences = 0
	timesGrid        = 1
	timesEveryPoint  = 2

	valuesConstant = 0
	valuesDecimal  = 1
	valuesBits     = 2
	valuesRuns     = 3
	valuesRaw      = 4
	valuesNarrow   = 5

	blockRows     = 256
	hasExceptions = 0x80
	ofDifferences = 0x40

	maxRows    = 1 << 24
	maxColumns = 64
	maxBody    = 1 << 28
)
