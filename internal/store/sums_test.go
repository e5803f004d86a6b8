package store

import (
	"math"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/rollup"
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

// eachExtreme calls with a row for every column and every extreme value of it.
func eachExtreme[R any](t *testing.T, base R, with func(row R, column string)) {
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

func TestRowsMatchTheirChecksumWhateverIsInThem(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	eachExtreme(t, seriesRow{ID: 1, Path: "a/b/c", Kind: "gauge"}, func(row seriesRow, column string) {
		row.complete()
		require.NoError(t, s.db.Create(&row).Error)
		var back seriesRow
		require.NoError(t, s.db.Take(&back, row.ID).Error)
		assert.True(t, back.matches(), "%s of a series: %.60v", column, row)
		require.NoError(t, s.db.Delete(&back).Error)
	})
	eachExtreme(t, chunkRow{ID: 1, Series: 1}, func(row chunkRow, column string) {
		row.Checksum = row.sum()
		require.NoError(t, s.db.Create(&row).Error)
		var back chunkRow
		require.NoError(t, s.db.Take(&back, row.ID).Error)
		assert.NoError(t, back.check(), "%s of a chunk: %+v", column, row)
		require.NoError(t, s.db.Delete(&back).Error)
	})
}

func TestASeriesWhoseLatestValueIsMinusZeroStays(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	require.NoError(t, s.Append(Batch{Entries: []Entry{{Series: id, Rows: rowsOf(1, 7, 2, math.Copysign(0, -1))}}}))
	require.NoError(t, s.Seal(nil))
	// What an earlier program wrote is read as well.
	var row seriesRow
	require.NoError(t, s.db.Take(&row, id).Error)
	row.Checksum = row.sumWith(row.Wrap, math.Copysign(0, -1), row.Worst)
	for range 2 {
		s = reopen(t, s)
		rows, err := s.Read(id, rollup.Readings, 0, 100)
		require.NoError(t, err)
		assert.Equal(t, 2, rows.Len())
		assert.Zero(t, s.Damaged())
		require.NoError(t, s.db.Model(&row).Update("checksum", row.Checksum).Error)
	}
}
