package store

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

const killedStore = "NEXOCUMULA_TEST_KILLED_STORE"

// TestMain is a process to be killed when it is told a store: it appends, and says each
// reading after it is on disk.
func TestMain(m *testing.M) {
	if path := os.Getenv(killedStore); path != "" {
		if err := appendForever(path); err != nil {
			fmt.Fprintln(os.Stderr, err)
		}
		os.Exit(1)
	}
	os.Exit(m.Run())
}

func appendForever(path string) error {
	ctx := context.Background()
	s, err := Open(path, slog.New(slog.DiscardHandler), Options{})
	if err != nil {
		return err
	}
	ids, err := s.Define(ctx, []series.Definition{{Path: "a/b/c", Kind: series.Gauge, FreshFor: time.Minute}})
	if err != nil {
		return err
	}
	known, _ := s.Get(ids[0])
	go func() {
		for {
			_ = s.Seal(ctx, engine.Sealing{}) // beside the appends, so that it is killed in the middle too
		}
	}()
	for at := known.LastTime + 1; ; at++ {
		if err := s.Append(ctx,
			engine.Batch{Entries: []engine.Entry{{Series: ids[0], Rows: rowsOf(float64(at), float64(at))}}}); err != nil {
			return err
		}
		fmt.Println(at)
	}
}

func TestWhateverWasAcknowledgedSurvivesSIGKILL(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s.db")
	random := rand.New(rand.NewPCG(1, 2))
	last := int64(0)
	for range 12 {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), killedStore+"="+path)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		lines := bufio.NewReader(out)
		for n := 20 + random.IntN(200); n > 0; n-- {
			_, err := fmt.Fscanln(lines, &last)
			require.NoError(t, err)
		}
		require.NoError(t, cmd.Process.Kill())
		for { // what it had said before it died
			if _, err := fmt.Fscanln(lines, &last); err != nil {
				break
			}
		}
		_, _ = io.Copy(io.Discard, out)
		_ = cmd.Wait()
		s := open(t, path)
		rows, err := s.Read(t.Context(), 1, series.Readings, 0, 1<<60)
		require.NoError(t, err)
		require.GreaterOrEqual(t, int64(rows.Len()), last, "all that was said is there")
		require.LessOrEqual(t, int64(rows.Len()), last+1, "and at most one that was not")
		for i, at := range rows.Times {
			require.Equal(t, int64(i+1), at)
		}
		missing, err := s.Missing()
		require.NoError(t, err)
		assert.Empty(t, missing)
		require.NoError(t, s.Close())
	}
}
