package chunk

// Layout, version 1. All integers are little-endian or varints as in Go's
// encoding/binary (unsigned LEB128; signed ones zigzag first).
//
//	offset  size  what
//	0       1     version, 1
//	1       1     0: the body follows as it is; 1: the body is one zstd frame (RFC 8878)
//	2       4     CRC-32C (RFC 3720, B.4) of everything behind it
//	6       -     the body
//
// The body:
//
//	uvarint       rows, at least 1
//	uvarint       value columns
//	varint        the first time, nanoseconds since 1970
//	varint × r-1  the difference from one time to the next, minus the difference before it
//	per column:
//	  1 byte      0: one value for all rows; 1: a value per row
//	  8 × 1 or r  the IEEE 754 bits of the values
//
// Times strictly ascend. Values keep their exact bits.
const (
	version1   = 1
	headerSize = 6

	bodyPlain = 0
	bodyZstd  = 1

	columnConstant = 0
	columnFull     = 1

	maxRows    = 1 << 24
	maxColumns = 64
	maxBody    = 1 << 28
)
