package config

import (
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"nexocumula/internal/access"
	"nexocumula/internal/certs"
	"nexocumula/internal/config/shape"
)

// Access says who has to say who he is.
type Access struct {
	Login    bool // everybody has to
	Open     bool // nobody has to, though others than this machine reach the port
	Idle     time.Duration
	Ends     time.Duration
	Audit    time.Duration
	Provider *access.Provider // nil: people log in here only
}

type accessFile struct {
	Login    string        `yaml:"login" is:"required, unless listen is loopback" says:"required: also on loopback"`
	Idle     string        `yaml:"idle_after" is:"12h" says:"a session of the console ends when it is not used for so long"`
	Ends     string        `yaml:"ends_after" is:"30d" says:"and every session after this time"`
	Audit    string        `yaml:"keep_audit" is:"400d" says:"how long the audit is kept"`
	Provider *providerFile `yaml:"provider" says:"people log in at an OpenID Connect provider as well"`
}

type providerFile struct {
	Name     string      `yaml:"name" is:"its host" says:"what people know it as"`
	Issuer   string      `yaml:"issuer" is:"required" says:"its address, https://"`
	ClientID string      `yaml:"client_id" is:"required" says:"this service's name there"`
	Address  string      `yaml:"address" is:"required" says:"of this service, as browsers reach it: https://host:port"`
	CA       string      `yaml:"ca" says:"PEM file of the authority that its certificate is from, unless this machine trusts it"`
	Claim    string      `yaml:"groups_claim" is:"groups" says:"in which claim of the ID token one's groups are"`
	Groups   []groupFile `yaml:"groups" says:"list: the first that somebody is in counts; who is in none is refused"`

	shape.Secret `yaml:",inline"`
}

type groupFile struct {
	Group string   `yaml:"group" is:"required" says:"its name there"`
	Role  string   `yaml:"role" is:"required" says:"viewer, operator, engineer or administrator"`
	Sees  []string `yaml:"sees" is:"everything" says:"selectors of the series that its members may see"`
}

// AccessKeys returns the keys of access.
func AccessKeys() []shape.Key { return shape.Keys(&accessFile{}) }

// check needs to know what is listened at, and whether that is by TLS.
func (raw *accessFile) check(at shape.Place, file *file) Access {
	if raw == nil {
		raw = &accessFile{}
	}
	in := at.Key("access")
	_, _, err := net.SplitHostPort(file.Listen)
	local := err != nil || shape.Local(file.Listen) // what is no address was told
	out := Access{
		Login: raw.Login == "required" || !local && !file.Open, Open: file.Open && !local,
		Idle:  in.Key("idle_after").Within(raw.Idle, access.DefaultIdle, time.Minute, 366*24*time.Hour),
		Ends:  in.Key("ends_after").Within(raw.Ends, access.DefaultEnds, time.Minute, 366*24*time.Hour),
		Audit: in.Key("keep_audit").Within(raw.Audit, access.DefaultAudit, 24*time.Hour, 100*366*24*time.Hour),
	}
	switch {
	case raw.Login != "" && raw.Login != "required":
		in.Key("login").Wrong("%q is not possible; write required, or leave it out", raw.Login)
	case raw.Login != "" && file.Open:
		at.Key("open").Wrong("open: true says that nobody has to log in, and access.login that everybody has to; leave one out")
	case !local && !file.Open && file.TLS == nil:
		at.Key("listen").Wrong("other machines reach %s, so it has to be by TLS and with a login: add tls: { self_signed: true }, or tls: with cert: and key:; or add open: true if whoever reaches it may do everything",
			file.Listen)
	}
	out.Provider = raw.Provider.check(in.Key("provider"))
	return out
}

func (raw *providerFile) check(at shape.Place) *access.Provider {
	if raw == nil {
		return nil
	}
	out := &access.Provider{
		Name:    raw.Name,
		Issuer:  raw.Issuer,
		Client:  raw.ClientID,
		Address: strings.TrimRight(raw.Address, "/"),
		Claim:   raw.Claim,
		Secret:  at.Secret(raw.Secret, true),
	}
	issuer := address(at.Key("issuer"), raw.Issuer)
	address(at.Key("address"), raw.Address)
	if out.Name == "" {
		out.Name = issuer
	}
	if out.Claim == "" {
		out.Claim = "groups"
	}
	if raw.ClientID == "" {
		at.Key("client_id").Wrong("name this service as the provider knows it")
	}
	out.HTTP = &http.Client{}
	if raw.CA != "" {
		if trusted := shape.Parsed(at.Key("ca"), certs.Files{CA: raw.CA}, certs.Open); trusted != nil {
			out.HTTP = trusted.HTTP("")
		}
	}
	out.HTTP.Timeout = 20 * time.Second
	if len(raw.Groups) == 0 {
		at.Key("groups").Wrong("say what the members of a group may do, such as groups: [{ group: fish, role: viewer }]; who is in none is refused")
	}
	for i, g := range raw.Groups {
		at := at.Key("groups").Item(i)
		rule := access.GroupRule{Group: g.Group}
		if g.Group == "" {
			at.Key("group").Wrong("name the group")
		}
		rule.Role = shape.Parsed(at.Key("role"), g.Role,
			func(text string) (access.Role, error) { return access.ParseRole(text, false) })
		rule.Scope = shape.Parsed(at.Key("sees"), g.Sees, access.ParseScope)
		out.Rules = append(out.Rules, rule)
	}
	return out
}

// address checks one of a service, and is its host. Without TLS it can only be on this machine.
func address(at shape.Place, text string) (host string) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "https" && (u.Scheme != "http" || !shape.Local(u.Host)) {
		at.Wrong("%q is not possible; write https://host:port", text)
		return ""
	}
	return u.Host
}
