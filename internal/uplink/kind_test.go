package uplink_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/replica"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/storetest"
	"nexocumula/internal/uplink"
	"nexocumula/internal/uplink/overhttp"
	"nexocumula/internal/wire"
)

// toFile is a kind of uplink that appends what it carries to a file, a line for each load.
type toFile struct {
	Path string `yaml:"path" is:"required" says:"file that grows"`
}

// line is one load in it.
type line struct {
	Number int
	Series []string
	Rows   int
	Notes  int
}

var fileKind = uplink.Kind("file", "appends to a file", func(at shape.Place, raw toFile) uplink.Settings {
	if filepath.Ext(raw.Path) != ".jsonl" {
		at.Key("path").Wrong("%q does not end in .jsonl", raw.Path)
	}
	return raw
})

func (f toFile) Address() string { return "file:" + f.Path }

func (f toFile) Check(context.Context, string, string) (says string, works bool) {
	if _, err := os.Stat(filepath.Dir(f.Path)); err != nil {
		return err.Error(), false
	}
	return "the file can be written", true
}

func (f toFile) Open(uplink.Opening) (uplink.Carrier, error) { return f, nil }

func (f toFile) Most() int { return 100 }

func (f toFile) Smaller() {}

// Carry refuses series that are called secret, cannot read those called odd, and numbers its lines by
// what it remembers.
func (f toFile) Carry(_ context.Context, l uplink.Load) (out uplink.Answer, err error) {
	one := line{Number: 1, Notes: len(l.Records[records.NotesKind])}
	if len(l.Peer) > 0 {
		if err := json.Unmarshal(l.Peer, &one.Number); err != nil {
			return out, err
		}
		one.Number++
	}
	for i, run := range l.Runs {
		switch {
		case strings.HasSuffix(string(run.Def.Path), "/secret"):
			out.Refused = append(out.Refused, wire.RefusedRun{
				Run:    i,
				Path:   string(run.Def.Path),
				Reason: "it is secret",
			})
			continue
		case strings.HasSuffix(string(run.Def.Path), "/odd") && len(l.Runs) == 1:
			return out, &uplink.UnreadableError{Reason: "it is odd", Err: fmt.Errorf("%s is odd", run.Def.Path)}
		}
		one.Series, one.Rows = append(one.Series, string(run.Def.Path)), one.Rows+run.Len()
	}
	if out.Peer = []byte(fmt.Sprint(one.Number)); l.Empty() {
		return out, nil
	}
	text, err := json.Marshal(one)
	if err != nil {
		return out, err
	}
	file, err := os.OpenFile(f.Path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return out, err
	}
	defer file.Close()
	_, err = file.Write(append(text, '\n'))
	return out, err
}

func lines(t *testing.T, path string) (out []line) {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	for each := range strings.Lines(string(text)) {
		var one line
		require.NoError(t, json.Unmarshal([]byte(each), &one))
		out = append(out, one)
	}
	return out
}

var kinds = config.Kinds{Uplinks: []config.UplinkKind{overhttp.Kind, fileKind}}

func parse(t *testing.T, uplinks string) (config.Settings, error) {
	t.Helper()
	return config.Parse("f.yaml", []byte("data: d\ngateway:\n  site: long-mere\n  uplinks: "+uplinks+"\n"), kinds)
}

func TestAKindOfUplinkIsConfiguredByTheTable(t *testing.T) {
	_, err := parse(t, "[{ name: a, file: { path: out.csv } }]")
	assert.ErrorContains(t, err, `file.path: "out.csv" does not end in .jsonl`)
	_, err = parse(t, "[{ name: a, file: { path: out.jsonl }, address: \"http://central:1\" }]")
	assert.ErrorContains(t, err, `key "address" is not known here`)
	_, err = parse(t, "[{ name: a, file: { paths: out.jsonl } }]")
	assert.ErrorContains(t, err, `key "paths" is not known here`)
	_, err = parse(t, "[{ name: a, address: nowhere }]")
	assert.ErrorContains(t, err, "is not the address of a central")
	s, err := parse(t,
		"[{ name: a, file: { path: out.jsonl }, tiers: [1m] }, { name: b, address: \"http://central:1\" }]")
	require.NoError(t, err)
	assert.Equal(t, config.Uplink{
		Name:     "a",
		Kind:     "file",
		Tiers:    []series.Tier{series.Minute},
		Allow:    []string{"readings", "read", "reconcile"},
		Settings: toFile{"out.jsonl"},
		Print:    s.Gateway.Uplinks[0].Print,
	}, s.Gateway.Uplinks[0])
	assert.Equal(t, "http://central:1", s.Gateway.Uplinks[1].Settings.(uplink.Settings).Address())
}

func TestAKindOfUplinkIsCheckedLive(t *testing.T) {
	dir := t.TempDir()
	s, err := parse(t,
		fmt.Sprintf("[{ name: here, file: { path: %[1]s/out.jsonl } }, { name: nowhere, file: { path: %[1]s/none/out.jsonl } }]",
			dir))
	require.NoError(t, err)
	found := fieldwork.CheckLive(t.Context(), s, time.Second)
	require.Len(t, found, 2)
	assert.True(t, found[0].Works)
	assert.False(t, found[1].Works)
	assert.Contains(t, found[1].Says, "no such file or directory")
}

// What every kind of uplink has in common works with this one as well: marks, records, refusals, the search for what
// cannot be read, and what is known of the other end over a restart.
func TestAnotherKindOfUplinkSendsEverything(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s, err := parse(t, fmt.Sprintf("[{ name: out, file: { path: %s/out.jsonl }, tiers: [1m] }]", dir))
		require.NoError(t, err)
		of := s.Gateway.Uplinks[0]
		st, err := store.Open(filepath.Join(dir, "s.db"), slog.New(slog.DiscardHandler), store.Options{})
		require.NoError(t, err)
		defer st.Close()
		write := func(path series.Path, first, count int64) {
			ids, err := st.Define(t.Context(), []series.Definition{{
				Path:     path,
				Kind:     series.Gauge,
				FreshFor: time.Minute,
			}})
			require.NoError(t, err)
			require.NoError(t, st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{
				Series: ids[0],
				Tier:   series.Minute,
				Rows:   storetest.Minutes(first, count),
			}}}))
		}
		for _, path := range []series.Path{
			"long-mere/buoy-1/oxygen", "long-mere/buoy-1/secret", "long-mere/buoy-1/odd", "long-mere/mast/wind",
		} {
			write(path, 0, 60)
		}
		_, err = st.Notes.Add(records.Note{
			At:      time.Now(),
			About:   "long-mere",
			Text:    "ice",
			Author:  "warden",
			Written: time.Now(),
		})
		require.NoError(t, err)
		run := func() (sender *uplink.Sender, stop func()) {
			box, err := st.Outboxes.Open(of.Name, uplink.ScopeOf(of, func(series.Path) bool { return true }))
			require.NoError(t, err)
			sender, err = uplink.New(of, box, uplink.From{
				As:      "long-mere",
				Data:    dir,
				Store:   st,
				Records: replica.Records(st.Records, replica.Hooks{}),
				Log:     slog.New(slog.DiscardHandler),
			})
			require.NoError(t, err)
			ctx, cancel := context.WithCancel(t.Context())
			ended := make(chan error, 1)
			go func() { ended <- sender.Run(ctx) }()
			return sender, func() { cancel(); assert.NoError(t, <-ended) }
		}
		sender, stop := run()
		time.Sleep(time.Minute)
		assert.Equal(t, "file:"+dir+"/out.jsonl", sender.Tally().Address)
		assert.True(t, sender.Tally().Up)
		stop()
		rows, notes, paths := 0, 0, map[string]bool{}
		all := lines(t, dir+"/out.jsonl")
		for i, one := range all {
			assert.GreaterOrEqual(t, one.Number, i+1)
			rows, notes = rows+one.Rows, notes+one.Notes
			for _, path := range one.Series {
				paths[path] = true
			}
		}
		assert.Equal(t, 1, notes)
		assert.True(t, paths["long-mere/buoy-1/oxygen"] && paths["long-mere/mast/wind"])
		assert.GreaterOrEqual(t, rows, 120)
		var refused []string
		for _, r := range sender.Outbox().Refused() {
			refused = append(refused, r.Reason)
		}
		assert.True(t, slices.Contains(refused, "it is secret"), refused)
		require.NoError(t, st.Seal(t.Context(), engine.Sealing{}))
		write("long-mere/mast/wind", 60, 3)
		last := all[len(all)-1].Number
		_, stop = run()
		time.Sleep(time.Minute)
		stop()
		again := lines(t, dir+"/out.jsonl")
		assert.Equal(t, 3, again[len(again)-1].Rows)
		assert.Greater(t, again[len(again)-1].Number, last, "it goes on where it was")
	})
}
