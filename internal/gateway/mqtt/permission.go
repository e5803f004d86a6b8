package mqtt

import (
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/payload"
)

// permissionKeys say where accounts may publish.
type permissionKeys struct {
	Accounts []string `yaml:"accounts" is:"all" says:"names of accounts"`
	Topics   []string `yaml:"topics" is:"required" says:"where they may publish: topics, in which {account} and {client} stand for the device's own, + for any level and # for the rest"`
}

type permission struct {
	accounts []string
	topics   []payload.Topic
}

func (raw permissionKeys) check(at shape.Place) permission {
	out := permission{accounts: raw.Accounts}
	if len(raw.Topics) == 0 {
		at.Key("topics").Wrong("say where they may publish")
	}
	for i, text := range raw.Topics {
		topic := shape.Parsed(at.Key("topics").Item(i), text, payload.ParseTopic)
		for _, name := range topic.Names() {
			if name != "account" && name != "client" {
				at.Key("topics").Item(i).Wrong("{%s} is not known here; there are {account} and {client}", name)
			}
		}
		out.topics = append(out.topics, topic)
	}
	return out
}

// allows reports whether a device may publish to a topic. Where no permissions are
// written, all may.
func allows(all []permission, account, client, topic string) bool {
	if len(all) == 0 {
		return true
	}
	own := map[string]string{"account": account, "client": client}
	for _, p := range all {
		if p.accounts != nil && !slices.Contains(p.accounts, account) {
			continue
		}
		for _, pattern := range p.topics {
			bound, ok := pattern.Match(topic)
			for name, level := range bound {
				ok = ok && level != "" && level == own[name]
			}
			if ok && !strings.HasPrefix(topic, "$") {
				return true
			}
		}
	}
	return false
}
