package engine

import (
	"context"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
)

func TestAppendWaitsWhileTheTrayIsFullAndASealIsOnItsWay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		e := &Engine{guarded: guarded{ended: make(chan struct{})}}
		require.NoError(t, e.waitForRoom(t.Context()), "nothing is there yet")
		full := func(m *memory) { m.trayWeight, m.leaving = mostWeight, map[seriesTier]column.Block{} }
		for name, end := range map[string]func(cancel func()){
			"the seal ends":   func(func()) { e.alterAndWake(func(m *memory) { m.leaving = nil }) },
			"the caller ends": func(cancel func()) { cancel() },
			"the store ends":  func(func()) { e.Close() },
		} {
			e.alter(full)
			ctx, cancel := context.WithCancel(t.Context())
			waited := make(chan error, 1)
			go func() { waited <- e.waitForRoom(ctx) }()
			synctest.Wait()
			require.Empty(t, waited, "did not wait")
			end(cancel)
			synctest.Wait()
			if name == "the caller ends" {
				assert.ErrorIs(t, <-waited, context.Canceled)
			} else {
				assert.NoError(t, <-waited, name)
			}
			e.alter(func(m *memory) { m.closing = false })
			cancel()
		}
	})
}
