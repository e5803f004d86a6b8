package wire

import (
	"fmt"

	"github.com/fxamacker/cbor/v2"
)

// Records are records of a batch by their kinds. Each kind says itself what its records are.
type Records map[string][]Record

// Record is one of them, as CBOR.
type Record = cbor.RawMessage

// MaxRecords is how many records a batch may hold.
const MaxRecords = 2000

// Count returns the number of records of all kinds.
func (r Records) Count() (n int) {
	for _, of := range r {
		n += len(of)
	}
	return n
}

// RefusedRecord is a record that was not stored and never will be as it is.
type RefusedRecord struct {
	Kind   string `json:"kind"`
	Place  int    `json:"place"` // among the records of its kind in the batch, from 0
	Reason string `json:"reason"`
}

// EncodeRecord writes a record.
func EncodeRecord(v any) (Record, error) { return encoding.Marshal(v) }

// DecodeRecord reads a record.
func DecodeRecord(r Record, into any) error {
	if err := decoding.Unmarshal(r, into); err != nil {
		return fmt.Errorf("record is not as docs/replication.md has it: %w", err)
	}
	return nil
}
