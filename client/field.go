package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// Probe calls /field/probe.
func (c *Client) Probe(ctx context.Context, p Probe) (Probed, error) {
	return post[Probed](ctx, c, "field/probe", p)
}

// Scan calls /field/scan.
func (c *Client) Scan(ctx context.Context, s Scan) (Scanned, error) {
	return post[Scanned](ctx, c, "field/scan", s)
}

// Lines calls /field/lines.
func (c *Client) Lines(ctx context.Context, l LinesFor) (Lines, error) {
	return post[Lines](ctx, c, "field/lines", l)
}

// Append calls /configuration/append.
func (c *Client) Append(ctx context.Context, a Append) (Appended, error) {
	return post[Appended](ctx, c, "configuration/append", a)
}

// Watch calls each for every event of /field/watch of a source, or of a broker's address, until
// ctx ends or each fails.
func (c *Client) Watch(ctx context.Context, source, address, topics string, each func(Watched) error) error {
	resp, err := c.do(ctx, "field/watch", values("source", source, "address", address, "topics", topics))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 64<<20)
	event := ""
	for lines.Scan() {
		if name, ok := strings.CutPrefix(lines.Text(), "event:"); ok {
			event = name
		}
		data, ok := strings.CutPrefix(lines.Text(), "data:")
		if !ok {
			continue
		}
		if event == "failed" {
			var failed Error
			if err := json.Unmarshal([]byte(data), &failed); err != nil {
				return fmt.Errorf("reading the watch of %s: %w", c.base, err)
			}
			return &failed
		}
		var now Watched
		if err := json.Unmarshal([]byte(data), &now); err != nil {
			return fmt.Errorf("reading the watch of %s: %w", c.base, err)
		}
		if err := each(now); err != nil {
			return err
		}
	}
	return lines.Err()
}

// Watched is an event of /field/watch: what was published so far.
type Watched struct {
	At     time.Time      `json:"at"`
	Topics []WatchedTopic `json:"topics"`
	Lost   uint64         `json:"lost"` // messages of topics beyond the first 2000
}

// WatchedTopic is a topic, and what its payloads seem to be.
type WatchedTopic struct {
	Topic    string    `json:"topic"`
	Messages uint64    `json:"messages"`
	Rate     float64   `json:"rate"`     // messages a second
	Bytes    float64   `json:"bytes"`    // of a message, on average
	Retained bool      `json:"retained"` // the broker had kept the last one
	LastAt   time.Time `json:"last_at"`
	Last     []byte    `json:"last"` // Base64 in JSON; at most the first 4096 bytes
	Form     string    `json:"form"`
	Seems    string    `json:"seems"` // for people

	TopicNotice
}

// TopicNotice holds facts that take several payloads of a topic to see, by the places of values.
type TopicNotice struct {
	States map[string][]string `json:"states,omitempty"` // texts that came
	Grows  []string            `json:"grows,omitempty"`  // numbers that only grew
}

// LinesFor names the topics or registers to write configuration lines for.
type LinesFor struct {
	Name    string `json:"name,omitempty"`    // that the source gets
	Address string `json:"address,omitempty"` // of the broker or device; without, there are no lines of a source

	Topics []LinesTopic `json:"topics,omitempty"`

	Unit      uint8           `json:"unit,omitempty"`
	Table     string          `json:"table,omitempty"`
	Registers []LinesRegister `json:"registers,omitempty"`
}

// LinesTopic is a topic with a payload of it.
type LinesTopic struct {
	Topic string `json:"topic"`
	Last  []byte `json:"last"`

	TopicNotice
}

// LinesRegister is an interpretation, and what it is called.
type LinesRegister struct {
	Keys   string   `json:"keys"`
	Series string   `json:"series"`         // station/quantity
	Unit   string   `json:"unit,omitempty"` // of measurement
	Low    *float64 `json:"low,omitempty"`  // what it is expected to lie within
	High   *float64 `json:"high,omitempty"`
}

// Lines are lines of a configuration.
type Lines struct {
	Sources string   `json:"sources"` // items of gateway.sources; empty without an address
	Below   string   `json:"below"`   // what stands below the address of such a source
	Rules   string   `json:"rules"`   // items of gateway.series
	Skipped []string `json:"skipped"` // topics that nothing was proposed for, with the reason
}

// FieldLine says how to reach a device: by a source of the gateway, or by an address.
type FieldLine struct {
	Source  string `json:"source,omitempty"`
	Address string `json:"address,omitempty"`
	Baud    int    `json:"baud,omitempty"`
	Parity  string `json:"parity,omitempty"`
	Timeout string `json:"timeout,omitempty"` // 500ms without
	Unit    uint8  `json:"unit"`
}

// Probe asks for registers, and for what they may mean.
type Probe struct {
	FieldLine
	Table string    `json:"table"`
	First int       `json:"first"`
	Count int       `json:"count"`
	Times int       `json:"times,omitempty"` // 1 without
	Every string    `json:"every,omitempty"` // 1s without
	Low   *float64  `json:"low,omitempty"`   // what the value is expected to lie within
	High  *float64  `json:"high,omitempty"`
	Like  []float64 `json:"like,omitempty"` // a value that moves like it, one for each time
	Most  int       `json:"most,omitempty"` // interpretations of each address; 3 without
}

// Probed is the result of a probe.
type Probed struct {
	Samples   []ProbedSample   `json:"samples"`
	Registers []ProbedRegister `json:"registers"`
}

// ProbedSample is the words, or bits, of one time.
type ProbedSample struct {
	At    time.Time `json:"at"`
	Words []uint16  `json:"words"`
}

// ProbedRegister lists the interpretations of the registers at an address, likeliest first.
type ProbedRegister struct {
	Address         int              `json:"address"`
	Text            string           `json:"text"` // letters that begin there; empty: none
	Interpretations []Interpretation `json:"interpretations"`
}

// Interpretation is a way to read registers.
type Interpretation struct {
	Says   string   `json:"says"` // for people
	Type   string   `json:"type"`
	Words  int      `json:"words"`
	Keys   string   `json:"keys"`   // of a register in a configuration
	Values []Number `json:"values"` // one for each sample
	Same   []string `json:"same"`   // that read the same in all samples
	Why    []string `json:"why"`
	Score  float64  `json:"score"` // 2.3 more is ten times as likely
}

// Scan looks for units, or for registers that one gives.
type Scan struct {
	FieldLine
	Units  bool   `json:"units,omitempty"` // look for units, asking each for the value at From
	ToUnit uint8  `json:"to_unit,omitempty"`
	Table  string `json:"table,omitempty"`
	From   int    `json:"from"`
	To     int    `json:"to,omitempty"`
	Pause  string `json:"pause,omitempty"`   // between requests; 20ms without
	AtMost int    `json:"at_most,omitempty"` // requests; 2000 without
}

// Scanned is the result of a scan.
type Scanned struct {
	Units  []ScannedUnit  `json:"units"`
	Ranges []ScannedRange `json:"ranges"`
	Ended  string         `json:"ended"` // why it ended before its end; empty: it did not
}

// ScannedUnit is one that answers.
type ScannedUnit struct {
	Unit   uint8    `json:"unit"`
	Tables []string `json:"tables"` // that it gives the value asked for of
	Says   string   `json:"says"`   // of those that it does not
}

// ScannedRange is registers or bits that are given.
type ScannedRange struct {
	First int `json:"first"`
	Count int `json:"count"`
}

// Append is lines for the service's configuration.
type Append struct {
	Sources string `json:"sources,omitempty"` // items of gateway.sources
	Rules   string `json:"rules,omitempty"`   // items of gateway.series
	Write   bool   `json:"write,omitempty"`   // into the file; without, only the difference is shown
}

// Appended shows the changes of appended lines.
type Appended struct {
	File       string `json:"file"`
	Difference string `json:"difference"` // in the unified form of diff
	Written    bool   `json:"written"`
}
