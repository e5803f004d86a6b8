package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"
)

// groups are the commands as the help lists them.
var groups = []group{
	{"Run", []string{"demo", "check", "plan", "run", "reload", "key", "simulate"}},
	{"Ask", []string{"health", "now", "windows", "readings", "moment", "excursions", "gaps", "series", "note", "board"}},
	{"Field", []string{"watch", "probe", "try", "source", "reject", "remove"}},
	{"Links", []string{"uplink", "gateway", "join", "fetch", "request", "reconcile"}},
	{
		"Access",
		[]string{"login", "logout", "profile", "user", "token", "audit", "password", "certificate", "recover"},
	},
	{"Files", []string{"verify", "backup", "restore", "import", "docs", "completion", "man", "help", "version"}},
}

type group struct {
	name     string
	commands []string
}

// examples of commands, without the program's name.
var examples = map[string][]string{
	"demo":                {"demo", "demo --dir /tmp/farm --console 127.0.0.1:9000 --history-days 30", "demo outage --for 2m"},
	"demo outage":         {"demo outage --for 2m", "demo outage --for 2m --from-site stony-beck"},
	"check":               {"check gateway.yaml", "check gateway.yaml --live --wait 30s"},
	"plan":                {"plan gateway.yaml", "plan central.yaml stony-beck.yaml long-mere.yaml", "plan --at 127.0.0.1:8460"},
	"run":                 {"run --config gateway.yaml"},
	"reload":              {"reload", "reload --at pumphouse"},
	"key":                 {"key list modbus"},
	"key list":            {"key list", "key list modbus json", "key list series -o csv"},
	"simulate":            {"simulate probes --listen 127.0.0.1:5021", "simulate lake --broker tcp://127.0.0.1:1884"},
	"simulate pump-panel": {"simulate pump-panel --listen 127.0.0.1:5020"},
	"simulate probes":     {"simulate probes --listen 127.0.0.1:5021"},
	"simulate lake":       {"simulate lake --broker tcp://127.0.0.1:1884 --every 10s"},
	"simulate silo-scale": {"simulate silo-scale --broker tcp://127.0.0.1:1884"},
	"simulate gate":       {"simulate gate --broker tcp://127.0.0.1:1884"},
	"simulate broker":     {"simulate broker --listen 127.0.0.1:1884"},
	"simulate provider":   {"simulate provider --secret-file provider-secret"},
	"version":             {"version"},
	"backup": {
		"backup --config gateway.yaml /mnt/usb/long-mere", "backup --config gateway.yaml --keep 30 --rate 20 /mnt/usb/long-mere",
		"backup --config gateway.yaml - | ssh head-office 'cat > long-mere.tar'",
	},
	"restore": {
		"restore /mnt/usb/long-mere", "restore /mnt/usb/long-mere /var/lib/nexocumula/long-mere",
		"restore --as-of 2026-03-01T08:00:00Z /mnt/usb/long-mere /var/lib/nexocumula/long-mere",
	},
	"verify": {"verify --config gateway.yaml", "verify --config gateway.yaml --rate 20 -o json"},
	"health": {"health", "health --at pumphouse -o json"},

	"watch": {
		"watch tcp://127.0.0.1:1884 --for 30s", "watch tcp://127.0.0.1:1884 --topics 'farm/#' --lines",
		"watch tcp://127.0.0.1:1884 --lines --append-to gateway.yaml --write",
	},
	"probe": {
		"probe rtu+tcp://127.0.0.1:5021 --scan-units 1..12 --table input",
		"probe rtu+tcp://127.0.0.1:5021 --unit-id 4 --table input --scan 0..40",
		"probe rtu+tcp://127.0.0.1:5021 --unit-id 4 --table input --count 3 --expect 0..20",
	},
	"try": {
		"try lake buoy/1/state '{\"at\": \"2026-03-01T02:30:00Z\", \"water\": {\"t1\": 11.4}}'",
		"try raceways 'unit 4, input 0' '812 1140 1'", "try --reject 42",
	},
	"fetch": {
		"fetch stony-beck/raceway-1/oxygen --from 2026-03-01T08:00:00Z --to 2026-03-01T09:00:00Z",
		"fetch 'long-mere/#' --from 2026-03-01T00:00:00Z --to 2026-03-02T00:00:00Z --keep-for 30d --no-wait",
	},
	"reconcile": {
		"reconcile", "reconcile head-office --from 2026-03-01T00:00:00Z --to 2026-04-01T00:00:00Z", "reconcile stony-beck --mend",
	},
	"request":          {"request list", "request read stony-beck probes"},
	"request list":     {"request list", "request list --state waiting -o json"},
	"request show":     {"request show 5EXAMPLE7"},
	"request read":     {"request read stony-beck probes", "request read alder-weir pump-panel meters --expires 10m"},
	"request withdraw": {"request withdraw 5EXAMPLE7"},
	"source":           {"source list", "source read raceways"},
	"source list":      {"source list", "source list --at pumphouse -o json"},
	"source read":      {"source read raceways", "source read pump-panel meters"},

	"now":            {"now", "now 'stony-beck/+/oxygen' --follow", "now -o json"},
	"series":         {"series list 'long-mere/#'", "series history stony-beck/raceway-4/oxygen"},
	"series list":    {"series list", "series list 'long-mere/#' --label depth=3m"},
	"series history": {"series history stony-beck/raceway-4/oxygen"},
	"series discovered": {
		"series discovered", "series discovered 'long-mere/buoy-7/#' --append-to long-mere.yaml --write",
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
	"remove": {
		"remove stony-beck/raceway-1/oxygen --from '2026-03-01 08:10' --to '2026-03-01 09:40' --reason 'probe in the bucket' --dry-run",
	},
	"series rename": {
		"series rename stony-beck/raceway-1 stony-beck/raceway-9", "series rename stony-beck/raceway-1/o2 stony-beck/raceway-1/oxygen",
	},
	"gaps": {
		"gaps", "gaps 'stony-beck/+/oxygen' --last 30d", "gaps --cause source_down --range yesterday --zone Europe/Oslo",
	},
	"excursions": {
		"excursions --last 12h", "excursions 'stony-beck/+/oxygen' --range yesterday --zone Europe/Oslo",
	},
	"note":      {"note list --last 7d", "note add stony-beck/raceway-1 'probe cleaned'"},
	"note list": {"note list --last 7d", "note list stony-beck/raceway-1"},
	"note add": {
		"note add stony-beck/raceway-1 'probe cleaned'",
		"note add long-mere 'buoy towed in' --time 2026-03-01T08:00:00Z",
	},
	"note send":     {"note send 12"},
	"note remove":   {"note remove 12"},
	"board":         {"board list raceway", "board export stony-beck/raceway-4"},
	"board list":    {"board list", "board list raceway 4"},
	"board export":  {"board export 7 > night.json", "board export stony-beck/raceway-4 > raceway-4.json"},
	"board import":  {"board import night.json", "board import night.json --over 7"},
	"board history": {"board history 7"},
	"board remove":  {"board remove 7"},
	"uplink":        {"uplink list"},
	"uplink list":   {"uplink list", "uplink list --at pumphouse"},

	"reject":        {"reject list --limit 5", "reject show 42", "reject replay 42"},
	"reject list":   {"reject list", "reject list --rule range --select 'stony-beck/#'"},
	"reject show":   {"reject show 42"},
	"reject count":  {"reject count --last 7d"},
	"reject replay": {"reject replay 42", "reject replay --rule range --all"},
	"import": {
		"import history.csv --preview 20 --time-form '%d.%m.%Y %H:%M' --time-zone Europe/Oslo",
		"import history.csv --column oxygen=raceway-1/oxygen --token-file sender-token",
	},

	"login": {
		"login --account ranger", "login --account ranger --code", "login --at https://10.0.3.7:8443 --with-token --save-as pumphouse",
	},
	"logout":          {"logout", "logout --at pumphouse"},
	"profile":         {"profile list"},
	"profile list":    {"profile list"},
	"profile remove":  {"profile remove pumphouse"},
	"user":            {"user list", "user add ranger --role viewer --sees 'stony-beck/#'"},
	"user list":       {"user list"},
	"user add":        {"user add ranger --role viewer --sees 'stony-beck/#'"},
	"user change":     {"user change ranger --role operator", "user change ranger --lock"},
	"user remove":     {"user remove ranger"},
	"user code":       {"user code ranger"},
	"user logout":     {"user logout ranger"},
	"token":           {"token list", "token add night-report --ends 90d"},
	"token list":      {"token list"},
	"token add":       {"token add night-report --ends 90d", "token add lake-script --role sender --ends never"},
	"token remove":    {"token remove night-report"},
	"gateway":         {"gateway add long-mere", "gateway list"},
	"gateway list":    {"gateway list"},
	"gateway add":     {"gateway add long-mere", "gateway add long-mere --site alder-weir"},
	"gateway remove":  {"gateway remove long-mere"},
	"join":            {"join --config gateway.yaml"},
	"audit":           {"audit list --last 7d", "audit verify"},
	"audit list":      {"audit list", "audit list --who ranger --outcome refused --last 7d"},
	"audit verify":    {"audit verify"},
	"password":        {"password buoy-1 >> devices.accounts"},
	"certificate":     {"certificate --dir data --host gate.long-mere.example"},
	"recover":         {"recover --config central.yaml"},
	"man":             {"man"},
	"help":            {"help", "help note add"},
	"docs":            {"docs", "docs operating"},
	"completion":      {"completion bash", "completion fish"},
	"completion bash": {"completion bash"},
	"completion zsh":  {"completion zsh"},
	"completion fish": {"completion fish"},
}

// commandList is how the help lists the commands: in groups, in the order of groups.
const commandList = `{{range index .Metadata "groups"}}

   {{.Name}}:{{range .Commands}}
     {{printf "%-11s" .Name}} {{.Usage}}{{end}}{{end}}`

// The library's templates show the group and no examples.
func init() {
	const group, options = "{{if .Category}}\n\nCATEGORY:\n   {{.Category}}{{end}}", "{{if .VisibleFlagCategories}}"
	const block = "{{with index .Metadata \"examples\"}}\n\nEXAMPLES:{{range .}}\n   nexocumula {{.}}{{end}}{{end}}"
	for _, template := range []*string{&cli.CommandHelpTemplate, &cli.SubcommandHelpTemplate} {
		*template = strings.Replace(strings.Replace(*template, group, "", 1), options, block+options, 1)
	}
	cli.RootCommandHelpTemplate = strings.Replace(cli.RootCommandHelpTemplate,
		`{{template "visibleCommandCategoryTemplate" .}}`, commandList, 1)
	cli.VersionPrinter = func(cmd *cli.Command) { fmt.Fprintln(cmd.Root().Writer, versionLine(cmd.Root().Version)) }
}

// groupCommands puts the commands into their groups for the help.
func groupCommands(root *cli.Command) {
	type listed struct {
		Name     string
		Commands []*cli.Command
	}
	var lists []listed
	for _, g := range groups {
		list := listed{Name: g.name}
		for _, name := range g.commands {
			if c := root.Command(name); c != nil {
				c.Category = g.name
				list.Commands = append(list.Commands, c)
			}
		}
		lists = append(lists, list)
	}
	root.Metadata = map[string]any{"groups": lists}
}

// exemplify gives a command its examples for the help, and has it say where it changed something.
func exemplify(c *cli.Command, name string) {
	c.Metadata = map[string]any{"examples": examples[name]}
	sayWhere(c, name)
	for _, below := range c.Commands {
		exemplify(below, name+" "+below.Name)
	}
}

func helpCommand() *cli.Command {
	return &cli.Command{
		Name: "help", Usage: "Show the help of a command", ArgsUsage: "[COMMAND ...]",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			words := cmd.Args().Slice()
			if len(words) == 0 {
				return cli.ShowRootCommandHelp(cmd.Root())
			}
			above := cmd.Root()
			for _, word := range words[:len(words)-1] {
				if above = above.Command(word); above == nil {
					return noCommand(cmd.Root(), strings.Join(words, " "))
				}
			}
			if last := words[len(words)-1]; above.Command(last) == nil {
				return noCommand(above, last)
			}
			return cli.ShowCommandHelp(ctx, above, words[len(words)-1])
		},
	}
}
