package sqlite

import (
	"database/sql"
	"fmt"
)

// Lists of chunks are most of what a query reads, so their columns are taken as they come: database/sql would copy
// each payload once more, and turn each number that is no int64 into a text and back.

// blob takes the bytes of a column. The driver makes them anew for each row, so they are kept as they are.
type blob []byte

// Scan is of sql.Scanner.
func (b *blob) Scan(from any) error {
	switch v := from.(type) {
	case nil:
		*b = nil
	case []byte:
		*b = v
	default:
		return fmt.Errorf("a column has %T where bytes were expected", from)
	}
	return nil
}

// whole takes a number of a column; what does not fit is an error.
type whole[T ~int | ~int64 | ~uint32 | ~uint64] struct{ to *T }

func number[T ~int | ~int64 | ~uint32 | ~uint64](to *T) sql.Scanner { return whole[T]{to} }

// Scan is of sql.Scanner.
func (n whole[T]) Scan(from any) error {
	v, ok := from.(int64)
	if !ok {
		return fmt.Errorf("a column has %T where a number was expected", from)
	}
	if *n.to = T(v); int64(*n.to) != v || *n.to < 0 && v > 0 {
		return fmt.Errorf("the number %d of a column is out of range", v)
	}
	return nil
}
