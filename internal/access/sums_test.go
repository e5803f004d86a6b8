package access

import (
	"math"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/rounds"
)

// Every column of every row: what is written is read back with the same sum, and a change is found.
func TestRowsMatchTheirChecksumWhateverIsInThem(t *testing.T) {
	rounds.Alone(t)
	b, _ := fresh(t)
	extremes := map[reflect.Kind][]any{
		reflect.String: {"", "'", "a\x00b", "é\u2028", "007", strings.Repeat("x", 1<<20)},
		reflect.Int64:  {int64(0), int64(math.MinInt64), int64(math.MaxInt64)},
		reflect.Bool:   {true, false},
		reflect.Slice:  {[]byte(nil), []byte{0}, make([]byte, 1<<20)},
	}
	for _, row := range []any{&accountRow{}, &passkeyRow{}, &sessionRow{}, &tokenRow{}, &codeRow{}, &gatewayRow{}} {
		of := reflect.TypeOf(row).Elem()
		for i := range of.NumField() {
			name := of.Field(i).Name
			if name == "Checksum" {
				continue
			}
			for _, v := range extremes[of.Field(i).Type.Kind()] {
				written := reflect.New(of)
				written.Elem().Field(0).SetString("key")
				written.Elem().Field(i).Set(reflect.ValueOf(v))
				require.NoError(t, b.db.Save(written.Interface()).Error)
				back := reflect.New(of)
				require.NoError(t, b.db.Take(back.Interface()).Error)
				had := uint32(back.Elem().FieldByName("Checksum").Uint())
				assert.NoError(t, checkSum("row", had, back.Interface()), "%s.%s", of.Name(), name)
				require.NoError(t, b.db.Where("1 = 1").Delete(reflect.New(of).Interface()).Error)
			}
		}
	}
}

func TestRowsWithAFlippedBitAreNotUsedAndNamed(t *testing.T) {
	rounds.Alone(t)
	for says, sql := range map[string]string{
		"account ranger does":    "UPDATE accounts SET role = 'administrator' WHERE name = 'ranger'",
		"account ranger doesn":   "UPDATE accounts SET locked = 0, created = created + 1 WHERE name = 'ranger'",
		"token report does":      "UPDATE tokens SET selectors = 'alder-weir/#'",
		"gateway long-mere does": "UPDATE gateways SET sites = 'alder-weir'",
		"a session of warden":    "UPDATE sessions SET created = created + 1",
	} {
		b, clock := fresh(t)
		with(t, b, "ranger", Viewer, "stony-beck/#")
		with(t, b, "warden", Administrator)
		require.NoError(t, try(b, "warden", words, "10.0.0.1"))
		_, err := b.AddToken(person, "report", Rights{Role: Viewer}, time.Time{})
		require.NoError(t, err)
		code, _, err := b.Enrol(person, "long-mere", []string{"long-mere"})
		require.NoError(t, err)
		_, err = b.Join("10.0.0.2", "long-mere", code)
		require.NoError(t, err)
		require.NoError(t, b.saveUsed(), "what is written apart does not count")
		require.NoError(t, b.db.Exec(sql).Error)
		require.NoError(t, b.Close())
		b = openIn(t, b.dir, clock)
		require.Error(t, b.Trouble(), says)
		assert.Contains(t, b.Trouble().Error(), strings.TrimSuffix(says, "n"))
		assert.Contains(t, b.Trouble().Error(), "does not match its checksum")
		if strings.HasPrefix(says, "account ") {
			assert.Error(t, try(b, "ranger", words, "10.0.0.1"))
			with(t, b, "ranger", Viewer)
			assert.NoError(t, try(b, "ranger", words, "10.0.0.1"), "it can be made anew")
			assert.NoError(t, b.Trouble(), "and nothing is wrong any more")
		}
		require.NoError(t, b.Close())
	}
}

func TestAnEmptiedAuditBesideAccountsIsReported(t *testing.T) {
	b, clock := fresh(t)
	with(t, b, "warden", Administrator)
	require.NoError(t, b.db.Exec("DELETE FROM audit").Error)
	require.NoError(t, b.Close())
	removeHead(t, b.dir)
	b = openIn(t, b.dir, clock)
	assert.ErrorContains(t, b.Trouble(), "the audit is empty, although there are accounts")
	require.NoError(t, b.Close())
	assert.NoError(t, openIn(t, b.dir, clock).Trouble(), "an entry says so from now on")
}

func removeHead(t *testing.T, dir string) {
	require.NoError(t, os.Remove(filepath.Join(dir, HeadFile)))
}
