package overmqtt

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// peer is what is kept of a broker.
type peer struct {
	BdSeq uint64 `json:"bd_seq,omitempty"` // of the last birth, as Sparkplug counts them
}

// carrier publishes loads.
type carrier struct {
	settings Settings
	o        uplink.Opening
	peer     peer
	with     connection            // nil: none
	node     *node                 // of Sparkplug; nil: none
	told     map[series.Path]int64 // time of the latest value that was published
}

func newCarrier(s Settings, o uplink.Opening) (*carrier, error) {
	c := &carrier{settings: s, o: o, told: map[series.Path]int64{}}
	if len(o.Peer) > 0 {
		if err := json.Unmarshal(o.Peer, &c.peer); err != nil {
			return nil, fmt.Errorf("what is known of its broker cannot be read: %w", err)
		}
	}
	if s.form == sparkplug {
		c.node = newNode(s)
	}
	return c, nil
}

const (
	mostRows      = 400
	publishWithin = time.Minute
)

// Most is few enough for a broker's limits of a message.
func (c *carrier) Most() int { return mostRows }

// Smaller does nothing: what is published can be read.
func (c *carrier) Smaller() {}

// InOrder has what waited go before what is new.
func (c *carrier) InOrder() bool { return true }

// Carry publishes a load and waits until the broker has acknowledged all of it.
func (c *carrier) Carry(ctx context.Context, l uplink.Load) (uplink.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, publishWithin)
	defer cancel()
	if err := c.connected(ctx); err != nil {
		return uplink.Answer{}, err
	}
	all, err := c.messages(l.Runs)
	if err == nil {
		err = c.with.publish(ctx, all)
	}
	if err != nil {
		c.with.close()
		c.with = nil
		return uplink.Answer{}, err
	}
	for _, run := range l.Runs {
		c.told[run.Def.Path] = max(c.told[run.Def.Path], lastOf(run))
	}
	return uplink.Answer{Peer: c.text()}, nil
}

func (c *carrier) text() []byte {
	text, _ := json.Marshal(c.peer) // a number can always be written
	return text
}

// connected makes a connection, unless there is one.
func (c *carrier) connected(ctx context.Context) (err error) {
	if c.with != nil && c.with.up() && !c.node.left() {
		return nil
	}
	if c.with != nil {
		c.with.close()
		c.with = nil
	}
	if c.node == nil {
		c.with, err = c.settings.connect(ctx, nil)
		return err
	}
	c.peer.BdSeq = (c.peer.BdSeq + 1) % 256
	if err := c.o.Remember(c.text()); err != nil { // no two connections have the same
		return err
	}
	if c.with, err = c.settings.connect(ctx, c.node.session(c.peer.BdSeq, c.o.Now())); err != nil {
		return err
	}
	if err := c.node.await(ctx); err != nil {
		c.with.close()
		c.with = nil
		return err
	}
	return nil
}

// messages returns what is published of runs.
func (c *carrier) messages(runs []wire.Run) (out []message, err error) {
	if c.node != nil {
		return c.node.messages(runs, c.settings.stats, c.o.Now())
	}
	for _, run := range runs {
		if run.Len() == 0 || len(run.Sketches) > 0 || run.Tier == series.Readings {
			continue
		}
		text, err := encode(c.settings.form, packOf(run, c.settings.stats))
		if err != nil {
			return nil, err
		}
		out = append(out, message{topic: fill(c.settings.topic, run.Def.Path, run.Tier), payload: text})
	}
	if c.settings.latest == "" {
		return out, nil
	}
	for _, run := range newest(runs) {
		if lastOf(run) <= c.told[run.Def.Path] {
			continue
		}
		text, err := encode(c.settings.form, latestOf(run))
		if err != nil {
			return nil, err
		}
		out = append(out, message{topic: fill(c.settings.latest, run.Def.Path, run.Tier), payload: text, retain: true})
	}
	return out, nil
}

// lastOf returns the time of the last reading that a run tells of.
func lastOf(run wire.Run) int64 {
	if run.Rows.Len() == 0 || len(run.Sketches) > 0 || run.Tier == series.Readings {
		return 0
	}
	return rollup.FromRow(run.Rows, run.Rows.Len()-1, run.Def.Kind).LastAt
}

// newest returns of each series the run that tells of its latest value.
func newest(runs []wire.Run) (out []wire.Run) {
	for _, run := range runs {
		i := slices.IndexFunc(out, func(o wire.Run) bool { return o.Def.Path == run.Def.Path })
		switch {
		case lastOf(run) == 0:
		case i < 0:
			out = append(out, run)
		case lastOf(run) > lastOf(out[i]):
			out[i] = run
		}
	}
	return out
}
