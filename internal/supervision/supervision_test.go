package supervision

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheWatchdogIsFedOnlyWhileTheServiceGetsOn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var log bytes.Buffer
		ctx, stop := context.WithCancel(t.Context())
		var fed atomic.Int64
		var stuck atomic.Bool
		alive := func(ctx context.Context) error {
			if !stuck.Load() {
				return nil
			}
			<-ctx.Done()
			return errors.New("the pipeline does not answer")
		}
		ended := make(chan struct{})
		go func() {
			watch(ctx, 3*time.Minute, alive, func() { fed.Add(1) }, slog.New(slog.NewTextHandler(&log, nil)))
			close(ended)
		}()
		time.Sleep(10*time.Minute + time.Second)
		synctest.Wait()
		assert.EqualValues(t, 11, fed.Load())
		stuck.Store(true)
		time.Sleep(3 * time.Minute)
		synctest.Wait()
		assert.EqualValues(t, 11, fed.Load())
		stuck.Store(false)
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		assert.Greater(t, fed.Load(), int64(11))
		stop()
		<-ended
		assert.Contains(t, log.String(), "event=service.stuck error=\"the pipeline does not answer\"")
	})
}

// written is what a folder has after a run, of which the crash wrote a text.
func written(t *testing.T, dir, crash string) (told string) {
	t.Helper()
	var log bytes.Buffer
	r := NewReport("v1.2.3")
	for range 3000 {
		_, err := r.Write([]byte("time=2026-03-01T08:00:00Z level=INFO event=link.up link=probes\n"))
		require.NoError(t, err)
	}
	require.NoError(t, r.Begin(dir, slog.New(slog.NewTextHandler(&log, nil))))
	_, err := r.Write([]byte("level=WARN the last line\n"))
	require.NoError(t, err)
	var text []byte
	require.Eventually(t, func() bool {
		text, err = os.ReadFile(filepath.Join(dir, runFile))
		return err == nil && strings.HasSuffix(string(text), "level=WARN the last line\n")
	}, time.Minute, time.Millisecond)
	assert.True(t, strings.HasPrefix(string(text), "nexocumula v1.2.3, process "))
	assert.Less(t, len(text), mostFile)
	if crash == "" {
		r.End()
		assert.NoFileExists(t, filepath.Join(dir, runFile))
		return log.String()
	}
	_, err = r.file.WriteString(crash)
	require.NoError(t, err)
	close(r.queue) // what comes after a crash is another process
	<-r.ended
	require.NoError(t, r.file.Close())
	return log.String()
}

func TestTheNextRunTellsHowTheLastOneEnded(t *testing.T) {
	dir := t.TempDir()
	assert.Empty(t, written(t, dir, ""), "there was none")
	assert.Empty(t, written(t, dir, "killed\n"), "it ended by itself")
	assert.Contains(t, written(t, dir, "panic: index out of range\n\ngoroutine 1 [running]:\n"), "event=service.cut")
	told := written(t, dir, "killed\n")
	assert.Contains(t, told, `event=service.crashed why="panic: index out of range"`)
	reports, err := filepath.Glob(filepath.Join(dir, crashFiles))
	require.NoError(t, err)
	require.Len(t, reports, 1)
	assert.Contains(t, told, reports[0])
	text, err := os.ReadFile(reports[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), "the last line\npanic: index out of range\n")
	info, err := os.Stat(reports[0])
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	for i := range 9 { // earlier ones
		name := filepath.Join(dir, strings.Replace(crashFiles, "*", "2025010"+string(rune('1'+i))+"T000000Z", 1))
		require.NoError(t, os.WriteFile(name, nil, 0o600))
	}
	written(t, dir, "fatal error: all goroutines are asleep\n")
	written(t, dir, "")
	left, err := filepath.Glob(filepath.Join(dir, crashFiles))
	require.NoError(t, err)
	assert.Len(t, left, mostReports)
}

func TestAReportStaysSmall(t *testing.T) {
	dir := t.TempDir()
	r := NewReport("v1.2.3")
	require.NoError(t, r.Begin(dir, slog.New(slog.DiscardHandler)))
	for range 10_000 {
		_, err := r.Write([]byte("level=WARN something happens again and again\n"))
		require.NoError(t, err)
	}
	info, err := os.Stat(filepath.Join(dir, runFile))
	require.NoError(t, err)
	assert.LessOrEqual(t, info.Size(), int64(mostFile))
	r.End()
	r.End()
}
