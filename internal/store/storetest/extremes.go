// Package storetest helps to test what stands in tables.
package storetest

import (
	"math"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// extremes are values of each type of column that a database could give back as something else.
var extremes = map[reflect.Kind][]any{
	reflect.Float64: {
		math.Copysign(0, -1), math.NaN(), math.Inf(1), math.Inf(-1), math.MaxFloat64, -math.MaxFloat64,
		math.SmallestNonzeroFloat64, -math.SmallestNonzeroFloat64, 0x1p-1022 / 3, 1e15, 9007199254740993.0, 0.1, -1e300,
	},
	reflect.String: {"", " ", "'", "a\x00b", "\xff\xfe", "é\u2028", "1e5", "007", strings.Repeat("x", 1<<20)},
	reflect.Int64:  {int64(0), int64(math.MinInt64), int64(math.MaxInt64), int64(-1)},
	reflect.Int:    {0, math.MinInt64, math.MaxInt64},
	reflect.Uint32: {uint32(1), uint32(math.MaxUint32)},
	reflect.Bool:   {true, false},
}

// EachExtreme calls with a row for every column and every extreme value of it.
func EachExtreme[R any](t *testing.T, base R, with func(row R, column string)) {
	of := reflect.TypeFor[R]()
	for i := range of.NumField() {
		if name := of.Field(i).Name; name == "Checksum" || of.Field(i).Type.Kind() == reflect.Slice {
			continue
		}
		values := extremes[of.Field(i).Type.Kind()]
		if of.Field(i).Name == "ID" && of.Field(i).Type.Kind() == reflect.Uint64 {
			continue
		}
		require.NotEmpty(t, values, "%s: no extreme values of %s", of.Field(i).Name, of.Field(i).Type)
		for _, v := range values {
			row := base
			reflect.ValueOf(&row).Elem().Field(i).Set(reflect.ValueOf(v))
			with(row, of.Field(i).Name)
		}
	}
}
