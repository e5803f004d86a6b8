package fieldwork

import (
	"context"
	"strings"
	"time"

	"nexocumula/client"
	"nexocumula/internal/gateway"
	"nexocumula/internal/gateway/mqtt"
	"nexocumula/internal/gateway/watch"
)

// Watching says what is watched: a source of the gateway, or a broker.
type Watching struct {
	Source string
	mqtt.BrokerAddress
	Topics string // topic filter; "": everything
}

const snapshotEvery = time.Second

// Watch calls each every second with what was published so far, and once more at the end, until
// ctx ends or each fails. g may be nil.
func Watch(ctx context.Context, g *gateway.Gateway, w Watching, each func(client.Watched) error) error {
	look, err := looker(g, w)
	if err != nil {
		return err
	}
	if w.Topics == "" {
		w.Topics = "#"
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	topics := watch.New(time.Now())
	ended := make(chan error, 1)
	go func() {
		ended <- look(ctx, w.Topics,
			func(topic string, raw []byte, retained bool) { topics.Take(topic, raw, retained, time.Now()) })
	}()
	tick := time.NewTicker(snapshotEvery)
	defer tick.Stop()
	for {
		select {
		case err := <-ended:
			if err == nil {
				err = each(watched(topics))
			}
			return err
		case <-tick.C:
			if err := each(watched(topics)); err != nil {
				stop()
				<-ended
				return err
			}
		}
	}
}

func looker(g *gateway.Gateway, w Watching) (func(context.Context, string, func(string, []byte, bool)) error, error) {
	switch {
	case (w.Source == "") == (w.Address == ""):
		return nil, wrong("say what is watched: source, one of the gateway's, or address, a broker's")
	case w.Address != "":
		return func(ctx context.Context, filter string, each func(string, []byte, bool)) error {
			return mqtt.Look(ctx, w.BrokerAddress, filter, each)
		}, nil
	case g == nil:
		return nil, wrong("source %q is one of a running gateway; ask that, or give an address", w.Source)
	}
	found, names := g.Looker(w.Source)
	if found == nil {
		return nil, wrong("no source that can be watched is called %q; there is %s", w.Source,
			strings.Join(names, ", "))
	}
	return found.Look, nil
}

func watched(topics *watch.Topics) client.Watched {
	now := time.Now()
	all, lost := topics.Now(now)
	out := client.Watched{At: now.UTC(), Lost: lost, Topics: make([]client.WatchedTopic, len(all))}
	for i, t := range all {
		out.Topics[i] = client.WatchedTopic{
			Topic: t.Name, Messages: t.Messages, Rate: t.Rate, Bytes: t.Bytes, Retained: t.Retained, LastAt: t.LastAt.UTC(), Last: append([]byte{},
				t.Last...),
			Form: t.Guess.Form, Seems: t.Guess.String(), TopicNotice: client.TopicNotice(t.Notice),
		}
	}
	return out
}
