package sqlite

import (
	"bytes"
	"encoding/binary"
	"log/slog"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A torn end of the log is what a power cut leaves: nobody was told of its transaction.
func TestATornLastTransactionIsNoLoss(t *testing.T) {
	log := make([]byte, logHeader)
	binary.BigEndian.PutUint32(log, 0x377f0682)
	binary.BigEndian.PutUint32(log[8:], 512)
	copy(log[16:], "saltsalt")
	var sum [2]uint32
	addSum(&sum, log[:24], binary.LittleEndian)
	binary.BigEndian.PutUint32(log[24:], sum[0])
	binary.BigEndian.PutUint32(log[28:], sum[1])
	frame := func(commit uint32) {
		f := make([]byte, frameHeader+512)
		binary.BigEndian.PutUint32(f[4:], commit)
		copy(f[8:], "saltsalt")
		addSum(&sum, f[:8], binary.LittleEndian)
		addSum(&sum, f[frameHeader:], binary.LittleEndian)
		binary.BigEndian.PutUint32(f[16:], sum[0])
		binary.BigEndian.PutUint32(f[20:], sum[1])
		log = append(log, f...)
	}
	for range 3 {
		frame(0)
		frame(1)
	}
	lost := func(at int) int {
		broken := bytes.Clone(log)
		broken[logHeader+at*(frameHeader+512)+100] ^= 1
		n, err := followLog(bytes.NewReader(broken))
		require.NoError(t, err)
		return n
	}
	assert.Equal(t, 0, lost(4), "in the last transaction")
	assert.Equal(t, 0, lost(5))
	assert.Equal(t, 1, lost(3), "the one before had been synced")
	assert.Equal(t, 2, lost(0))
	n, err := followLog(bytes.NewReader(log[:len(log)-100]))
	require.NoError(t, err)
	assert.Zero(t, n)
}

func TestWhatSQLiteCannotDoIsExplained(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	db, err := Records(path, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer closePool(db)
	require.NoError(t, db.Exec("CREATE TABLE t (x)").Error)
	require.NoError(t, db.Exec("PRAGMA max_page_count = 1").Error)
	full := db.Exec("INSERT INTO t VALUES (zeroblob(10000000))").Error
	require.Error(t, full)
	text := explained(path, full).Error()
	assert.Contains(t, text, "its disk ")
	assert.NotContains(t, text, "restore")
	assert.NotContains(t, text, "no file of nexocumula")
}
