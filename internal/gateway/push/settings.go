// Package push takes readings that senders bring over HTTP.
package push

import (
	"log/slog"
	"slices"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/payload"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
)

// Kind takes what is posted to /api/v1/readings.
var Kind = source.Kind("http_push",
	"senders that post readings to /api/v1/readings, as SenML in JSON or CBOR, as CSV, or in any form of messages; answered once all is on disk",
	check)

type pushKeys struct {
	Senders []senderKeys `yaml:"senders" is:"required" says:"list"`
	MaxBody int          `yaml:"max_body" is:"1048576" says:"bytes of one request, also once it is unpacked"`

	Messages []shape.Part `yaml:"messages" says:"list; see messages: what is posted to /api/v1/readings?topic=… is read as the first says whose topic matches"`
}

type senderKeys struct {
	Name         string `yaml:"name" is:"required" says:"unique at this source"`
	shape.Secret `yaml:",inline"`
	Series       string `yaml:"series" is:"#" says:"selector of the series it may send, such as +/mast/+"`
}

const (
	defaultMaxBody = 1 << 20
	largestBody    = 8 << 20
	leastToken     = 16
)

// settings are checked.
type settings struct {
	site    string
	senders []Sender
	maxBody int

	messages []payload.Message
}

// Sender is an account that may send readings of some series.
type Sender struct {
	Name   string
	token  string // "": it shows a token that was made for it, by its name
	series series.Selector
}

// Feeds returns any series: senders name them.
func (s settings) Feeds() []config.Feed {
	return append(payload.Feeds(s.messages), config.Feed{Levels: []string{"#"}})
}

func (s settings) Open(name string, into *pipeline.Pipeline, _ *slog.Logger) source.Source {
	return open(name, s, into)
}

func check(at shape.Place, site string, raw pushKeys) source.Settings {
	out := settings{
		site: site, maxBody: at.Key("max_body").Count(raw.MaxBody, defaultMaxBody, 1, largestBody, "bytes is"),
	}
	if len(raw.Messages) > 0 {
		out.messages = payload.ReadMessages(at.Key("messages"), site, raw.Messages)
	}
	if len(raw.Senders) == 0 {
		at.Key("senders").Wrong("say who may send: a list of {name, secret_file}")
	}
	for i, r := range raw.Senders {
		at := at.Key("senders").Item(i)
		if err := series.CheckLevel(r.Name); err != nil {
			at.Key("name").Wrong("the name %v", err)
		}
		one := Sender{Name: r.Name, token: at.Secret(r.Secret, false)}
		if n := len(one.token); n > 0 && n < leastToken {
			at.Key("secret_file").Wrong("the token has %d characters; take %d or more, as head -c 24 /dev/urandom | base64 makes",
				n, leastToken)
		}
		if slices.ContainsFunc(out.senders, func(s Sender) bool {
			return s.Name == one.Name || s.token == one.token && s.token != ""
		}) {
			at.Wrong("another sender has the same name or the same token")
		}
		if r.Series == "" {
			r.Series = "#"
		}
		one.series = shape.Parsed(at.Key("series"), r.Series, series.ParseSelector)
		if levels := one.series.Levels(); len(levels) > 0 && levels[0] != "+" && levels[0] != "#" && levels[0] != site {
			at.Key("series").Wrong("%s names no series: those of this gateway begin with %s/; write +/%s", r.Series,
				site, r.Series)
		}
		out.senders = append(out.senders, one)
	}
	return out
}
