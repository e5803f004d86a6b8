package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/kinds"
)

func keyCommand() *cli.Command {
	return &cli.Command{
		Name: "key", Usage: "List the keys of configurations",
		Commands: []*cli.Command{{
			Name:        "list",
			Usage:       "List the keys of sources, payloads and other parts of a configuration",
			ArgsUsage:   "[PART ...]",
			Description: "PART is a source such as modbus, a payload form such as json, or another part such as series; without one, all.",
			Flags:       []cli.Flag{outputFlag},
			Action:      listKeys,
		}},
	}
}

// partKey is a key of a part of the configuration.
type partKey struct {
	Part    string `json:"part"`
	Key     string `json:"key"`
	Default string `json:"default"`
	Says    string `json:"says"`
}

func listKeys(_ context.Context, cmd *cli.Command) error {
	wanted := cmd.Args().Slice()
	var known []string
	answer := []partKey{}
	g := grid{columns: []column{{name: "part"}, {name: "key"}, {name: "default"}, {name: "says", wraps: true}}}
	for _, list := range kinds.KeyLists() {
		name := strings.TrimPrefix(list.Name, "payload: ")
		known = append(known, name)
		if len(wanted) > 0 && !slices.Contains(wanted, name) {
			continue
		}
		for _, k := range list.Keys {
			answer = append(answer, partKey{name, k.Name, k.Default, k.Says})
			g.rows = append(g.rows, []cell{plain(name), plain(k.Name), plain(k.Default), plain(k.Says)})
		}
		g.notes = append(g.notes, list.Name+": "+list.Says)
	}
	for _, name := range wanted {
		if !slices.Contains(known, name) {
			return usage("nothing is called %q; there are %s", name, strings.Join(known, ", "))
		}
	}
	return show(cmd, answer, g)
}
