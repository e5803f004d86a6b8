package cli

import (
	"strings"

	"github.com/urfave/cli/v3"
)

// groups are the commands as the help lists them.
var groups = []struct {
	name     string
	commands []string
}{
	{"Set up and run", []string{"demo", "check", "plan", "run", "reload", "keys", "simulate", "version"}},
	{"Find out what devices say", []string{"watch", "probe", "discovered", "try", "sources", "read"}},
	{
		"Look at data",
		[]string{"now", "series", "windows", "readings", "moment", "excursions", "notes", "boards", "uplinks"},
	},
	{"Correct and complete data", []string{"rejects", "replay", "import"}},
	{
		"Manage access",
		[]string{"login", "logout", "user", "token", "enrol", "join", "audit", "password", "certificate", "recover"},
	},
}

// examples of commands, without the program's name.
var examples = map[string][]string{
	"demo":                {"demo", "demo --dir /tmp/farm --console 127.0.0.1:9000 --days 30", "demo outage --for 2m"},
	"demo outage":         {"demo outage --for 2m"},
	"check":               {"check gateway.yaml", "check gateway.yaml --live --wait 30s"},
	"plan":                {"plan gateway.yaml", "plan --at http://127.0.0.1:8460"},
	"run":                 {"run --config gateway.yaml"},
	"reload":              {"reload", "reload --at http://10.0.3.7:8460"},
	"keys":                {"keys", "keys modbus", "keys json"},
	"simulate":            {"simulate probes --listen 127.0.0.1:5021", "simulate lake --to tcp://127.0.0.1:1884"},
	"simulate pump-panel": {"simulate pump-panel --listen 127.0.0.1:5020"},
	"simulate probes":     {"simulate probes --listen 127.0.0.1:5021"},
	"simulate lake":       {"simulate lake --to tcp://127.0.0.1:1884 --every 10s"},
	"simulate silo-scale": {"simulate silo-scale --to tcp://127.0.0.1:1884"},
	"simulate gate":       {"simulate gate --to tcp://127.0.0.1:1884"},
	"simulate broker":     {"simulate broker --listen 127.0.0.1:1884"},
	"simulate provider":   {"simulate provider --secret-file provider-secret"},
	"version":             {"version"},

	"watch": {
		"watch tcp://127.0.0.1:1884 --for 30s", "watch tcp://127.0.0.1:1884 --topics 'farm/#' --lines",
		"watch tcp://127.0.0.1:1884 --lines --append-to gateway.yaml --write",
	},
	"probe": {
		"probe rtu+tcp://127.0.0.1:5021 --scan-units 1..12 --table input",
		"probe rtu+tcp://127.0.0.1:5021 --unit 4 --table input --scan 0..40",
		"probe rtu+tcp://127.0.0.1:5021 --unit 4 --table input --count 3 --expect 0..20",
	},
	"discovered": {"discovered", "discovered 'long-mere/buoy-7/#' --append-to long-mere.yaml --write"},
	"try": {
		"try lake buoy/1/state '{\"at\": \"2026-03-01T02:30:00Z\", \"water\": {\"t1\": 11.4}}'",
		"try raceways 'unit 4, input 0' '812 1140 1'", "try --reject 42",
	},
	"sources": {"sources", "sources --at http://10.0.3.7:8460 -o json"},
	"read":    {"read raceways"},

	"now": {"now", "now 'stony-beck/+/oxygen'", "now -o json"},
	"series": {
		"series", "series 'long-mere/#' --label depth=3m", "series stony-beck/raceway-4/oxygen --versions",
	},
	"windows": {
		"windows stony-beck/raceway-4/oxygen --last 24h --width 1h --stats mean,min,max",
		"windows 'long-mere/#' --range yesterday --zone Europe/Oslo --width 1d --hours 22:00-06:00",
		"windows 'stony-beck/+/oxygen' --range 'last week' --width whole --stats min,below:6 --lowest 3",
		"windows 'stony-beck/+/oxygen' --range yesterday --width 15m --stats mean --wide > oxygen.csv",
		"windows --input a=stony-beck/raceway-1/oxygen --input b=stony-beck/raceway-2/oxygen --calc gap=a-b",
	},
	"readings": {
		"readings stony-beck/raceway-4/oxygen --last 10m",
		"readings 'stony-beck/#' --range yesterday -o arrow > yesterday.arrows",
	},
	"moment": {
		"moment 'stony-beck/+/oxygen' 2026-03-01T02:30:00Z",
		"moment 'long-mere/+/oxygen' '2026-03-01 02:30' --zone Europe/Oslo --how nearest",
	},
	"excursions": {
		"excursions --last 12h", "excursions 'stony-beck/+/oxygen' --range yesterday --zone Europe/Oslo",
	},
	"notes": {"notes --last 7d", "notes stony-beck/raceway-1"},
	"notes add": {
		"notes add stony-beck/raceway-1 'probe cleaned'",
		"notes add long-mere 'buoy towed in' --time 2026-03-01T08:00:00Z",
	},
	"notes remove":   {"notes remove 12"},
	"boards":         {"boards", "boards raceway"},
	"boards export":  {"boards export 7 > night.json", "boards export stony-beck/raceway-4 > raceway-4.json"},
	"boards import":  {"boards import night.json", "boards import night.json --over 7"},
	"boards history": {"boards history 7"},
	"boards remove":  {"boards remove 7"},
	"uplinks":        {"uplinks", "uplinks --at http://10.0.3.7:8460"},

	"rejects": {"rejects", "rejects 42", "rejects --rule range --series 'stony-beck/#'", "rejects --counts 24h"},
	"replay":  {"replay 42", "replay --rule range --all"},
	"import": {
		"import history.csv --preview 20 --time-form '%d.%m.%Y %H:%M' --time-zone Europe/Oslo",
		"import history.csv --column oxygen=raceway-1/oxygen --token-file sender-token",
	},

	"login": {
		"login --account ranger", "login --account ranger --code", "login --at https://10.0.3.7:8443 --token",
	},
	"logout":       {"logout"},
	"user":         {"user list", "user add ranger --role viewer --sees 'stony-beck/#'"},
	"user list":    {"user list"},
	"user add":     {"user add ranger --role viewer --sees 'stony-beck/#'"},
	"user change":  {"user change ranger --role operator", "user change ranger --lock"},
	"user remove":  {"user remove ranger"},
	"user code":    {"user code ranger"},
	"user logout":  {"user logout ranger"},
	"token":        {"token list", "token add night-report --ends 90d"},
	"token list":   {"token list"},
	"token add":    {"token add night-report --ends 90d", "token add lake-script --role sender --ends never"},
	"token revoke": {"token revoke night-report"},
	"enrol":        {"enrol long-mere", "enrol list"},
	"enrol list":   {"enrol list"},
	"enrol revoke": {"enrol revoke long-mere"},
	"join":         {"join --config gateway.yaml"},
	"audit":        {"audit", "audit --who ranger --outcome refused --last 7d", "audit verify"},
	"audit verify": {"audit verify"},
	"password":     {"password buoy-1 >> devices.accounts"},
	"certificate":  {"certificate --dir data --name gate.long-mere.example"},
	"recover":      {"recover --config central.yaml keeper"},
}

// The library's templates show the group and no examples.
func init() {
	const group, options = "{{if .Category}}\n\nCATEGORY:\n   {{.Category}}{{end}}", "{{if .VisibleFlagCategories}}"
	const block = "{{with index .Metadata \"examples\"}}\n\nEXAMPLES:{{range .}}\n   nexocumula {{.}}{{end}}{{end}}"
	for _, template := range []*string{&cli.CommandHelpTemplate, &cli.SubcommandHelpTemplate} {
		*template = strings.Replace(strings.Replace(*template, group, "", 1), options, block+options, 1)
	}
}

// explain gives commands their group and examples for the help, and has them say where they changed something.
func explain(root *cli.Command) {
	for _, g := range groups {
		for _, name := range g.commands {
			if c := root.Command(name); c != nil {
				c.Category = g.name
				exemplify(c, name)
			}
		}
	}
}

func exemplify(c *cli.Command, name string) {
	c.Metadata = map[string]any{"examples": examples[name]}
	sayWhere(c, name)
	for _, below := range c.Commands {
		exemplify(below, name+" "+below.Name)
	}
}
