package watch

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/payload"
)

// sent is a payload of the table, and what becomes of it.
type sent struct {
	Name    string         `yaml:"name"`
	Text    string         `yaml:"text"`
	Hex     string         `yaml:"hex"`
	Packed  string         `yaml:"packed"`
	Lines   map[string]any `yaml:"lines"`
	Becomes []string       `yaml:"becomes"`
	ByHand  string         `yaml:"by_hand"`
	Never   string         `yaml:"never"`
}

// sentAt is when the payloads of the table arrive.
var sentAt = time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)

func (s sent) payload(t *testing.T) []byte {
	raw, err := hex.DecodeString(strings.ReplaceAll(s.Hex, " ", ""))
	require.NoError(t, err)
	raw = append(raw, s.Text...)
	var out bytes.Buffer
	var to io.WriteCloser
	switch s.Packed {
	case "":
		return raw
	case "gzip":
		to = gzip.NewWriter(&out)
	case "deflate":
		to = zlib.NewWriter(&out)
	case "zstd":
		to, err = zstd.NewWriter(&out)
		require.NoError(t, err)
	}
	_, err = to.Write(raw)
	require.NoError(t, err)
	require.NoError(t, to.Close())
	return out.Bytes()
}

// decoded reads a payload as lines of a configuration say.
func decoded(lines string, raw []byte) (all, rejects []string, err error) {
	var form struct {
		Messages []shape.Part `yaml:"messages"`
	}
	f, at, err := shape.Read("m.yaml", []byte(lines), &form)
	if err != nil {
		return nil, nil, err
	}
	messages := payload.ReadMessages(at.Key("messages"), "site", form.Messages)
	if err := f.Err(); err != nil {
		return nil, nil, err
	}
	got := payload.NewMessages("s", messages).Decode(payload.Arrived{
		Topic:   "probe/7",
		Payload: raw,
		At:      sentAt.UnixNano(),
	})
	for _, r := range got.Readings {
		when, what := time.Unix(0, r.Time).UTC().Format(time.RFC3339Nano), fmt.Sprint(r.Value)
		if ago := sentAt.Sub(time.Unix(0, r.Time)); ago == 0 {
			when = "now"
		} else if ago > 0 && ago < time.Minute {
			when = "-" + ago.String()
		}
		if r.Text != "" {
			what = r.Text
		}
		all = append(all, strings.TrimSpace(strings.TrimPrefix(string(r.Path), "site/")+" "+when+" "+what+" "+r.Unit))
	}
	for _, r := range got.Rejects {
		rejects = append(rejects, r.Reason)
	}
	return all, rejects, nil
}

// valuesOf leaves out how series are called, in an order of its own.
func valuesOf(all []string) []string {
	out := []string{}
	for _, one := range all {
		_, rest, _ := strings.Cut(one, " ")
		out = append(out, rest)
	}
	slices.Sort(out)
	return out
}

func TestPayloadsOfTheFieldAreCollected(t *testing.T) {
	text, err := os.ReadFile("testdata/payloads.yaml")
	require.NoError(t, err)
	var all []sent
	require.NoError(t, yaml.Unmarshal(text, &all))
	collected, proposed := 0, 0
	for _, s := range all {
		raw := s.payload(t)
		if s.Never != "" {
			got := Propose([]Topic{{Name: "probe/7", Last: raw, Guess: payload.GuessOf("probe/7", raw)}})
			assert.Empty(t, got.Messages, s.Name)
			continue
		}
		s.Lines["topic"] = "probe/7"
		lines, err := json.Marshal(map[string]any{"messages": []any{s.Lines}})
		require.NoError(t, err)
		got, rejects, err := decoded(string(lines), raw)
		if !assert.NoError(t, err, s.Name) || !assert.Equal(t, s.Becomes, got, s.Name) ||
			!assert.Empty(t, rejects, s.Name) {
			continue
		}
		collected++
		proposal := Propose([]Topic{{Name: "probe/7", Last: raw, Guess: payload.GuessOf("probe/7", raw)}})
		own, rejects, err := decoded("messages:\n"+proposal.Messages, raw)
		good := err == nil && len(rejects) == 0 && proposal.Messages != "" &&
			slices.Equal(valuesOf(s.Becomes), valuesOf(own))
		if good {
			proposed++
		}
		assert.Equal(t, s.ByHand == "", good, "%s: %s\n%s%s\n%v %v %v", s.Name, raw, proposal.Messages,
			proposal.Skipped, own, rejects, err)
	}
	assert.GreaterOrEqual(t, collected, 100)
	assert.GreaterOrEqual(t, float64(proposed), 0.85*float64(collected))
	t.Logf("%d payloads: %d are collected by configuration, and %d of them by the lines that are proposed", len(all),
		collected, proposed)
}
