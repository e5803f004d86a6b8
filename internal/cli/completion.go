package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

// completionCommand describes the command of the library that prints what makes a shell complete words.
func completionCommand(c *cli.Command) {
	c.Hidden = false
	c.Usage = "Print what makes bash, zsh or fish complete commands, options and names at the service"
	c.Description = "For bash: source <(nexocumula completion bash)\nFor zsh:  source <(nexocumula completion zsh)\n" +
		"For fish: nexocumula completion fish > ~/.config/fish/completions/nexocumula.fish"
	var shells []*cli.Command
	for _, shell := range c.Commands {
		shell.Usage = "Print it for " + shell.Name
		if shell.Name != "pwsh" {
			shells = append(shells, shell)
		}
	}
	c.Commands = shells
	govern(c)
	exemplify(c, c.Name)
	groupCommands(c.Root())
}

// completeWithin is how long a shell waits for names.
const completeWithin = 2 * time.Second

// names lists what an argument of a form, such as SERIES, may be called at a service.
var names = map[string]func(ctx context.Context, c *client.Client) ([]string, error){
	"SERIES": seriesNames, "SELECTOR": seriesNames,
	"SITE": func(ctx context.Context, c *client.Client) ([]string, error) { return levels(ctx, c, 1) },
	"PLACE": func(ctx context.Context, c *client.Client) ([]string, error) {
		sites, err := levels(ctx, c, 1)
		if err != nil {
			return nil, err
		}
		stations, err := levels(ctx, c, 2)
		return append(sites, stations...), err
	},
	"SOURCE": func(ctx context.Context, c *client.Client) (out []string, err error) {
		health, err := c.Health(ctx)
		if err == nil && health.Gateway != nil {
			for _, s := range health.Gateway.Sources {
				out = append(out, s.Name)
			}
		}
		return out, err
	},
	"BOARD": func(ctx context.Context, c *client.Client) (out []string, err error) {
		found, err := c.Boards(ctx, "")
		for _, b := range found.Boards {
			if !b.Standard {
				out = append(out, fmt.Sprintf("%d:%s", b.ID, b.Title))
			}
		}
		return out, err
	},
	"PROFILE": func(context.Context, *client.Client) (out []string, err error) {
		all, err := profiles()
		for _, p := range all {
			if p.Name != "" {
				out = append(out, p.Name)
			}
		}
		return out, err
	},
}

func seriesNames(ctx context.Context, c *client.Client) (out []string, err error) {
	found, err := c.Series(ctx, "")
	for _, s := range found.Series {
		out = append(out, s.Path)
	}
	return out, err
}

// levels returns the different beginnings of series' paths.
func levels(ctx context.Context, c *client.Client, deep int) (out []string, err error) {
	all, err := seriesNames(ctx, c)
	seen := map[string]bool{}
	for _, path := range all {
		parts := strings.Split(path, "/")
		begin := strings.Join(parts[:min(deep, len(parts))], "/")
		if len(parts) > deep && !seen[begin] {
			seen[begin] = true
			out = append(out, begin)
		}
	}
	return out, err
}

// complete lists what may come next, for a shell: commands and options, or what the next argument may be called.
// What cannot be asked for is left out: a shell has no place for errors.
func complete(ctx context.Context, cmd *cli.Command) {
	given := cmd.Args().Slice()
	if n := len(given); len(cmd.Commands) > 0 || n > 0 && strings.HasPrefix(given[n-1], "-") {
		cli.DefaultCompleteWithFlags(ctx, cmd)
		return
	}
	for _, f := range []*cli.StringFlag{atFlag, tokenFlag, trustFlag} { // the library reads the environment later
		for _, name := range f.GetEnvVars() {
			if text := os.Getenv(name); text != "" && !cmd.IsSet(f.Name) {
				_ = cmd.Set(f.Name, text) // what is wrong with it the command itself says
			}
		}
	}
	ctx, stop := context.WithTimeout(ctx, completeWithin)
	defer stop()
	for _, form := range formsAt(cmd.ArgsUsage, len(given)) {
		if list, ok := names[form]; ok {
			found, _ := list(ctx, ask(cmd))
			for _, name := range found {
				fmt.Fprintln(cmd.Root().Writer, name)
			}
		}
	}
}

// formsAt returns the forms of the argument after so many, of a form such as "SERIES TIME" or "BOARD | PLACE".
func formsAt(form string, after int) []string {
	words := strings.Fields(strings.NewReplacer(" | ", "|", "[", "", "]", "").Replace(form))
	if n := len(words); n > 0 && words[n-1] == "..." {
		words = words[:n-1]
		after = min(after, n-2)
	}
	if after >= len(words) {
		return nil
	}
	return strings.Split(words[after], "|")
}
