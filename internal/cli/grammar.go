package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	texts "nexocumula/internal/plain"
)

// govern gives every command what all have in common: what happens with commands, arguments and options that there
// are not.
func govern(c *cli.Command) {
	c.DisableSliceFlagSeparator = true // formulas have commas in them
	c.HideHelpCommand = true           // there is one for all, and "help" may be the name of a site
	c.ShellComplete = complete
	c.OnUsageError = func(_ context.Context, cmd *cli.Command, err error, _ bool) error {
		return usageError{wrongOption(cmd, err), cmd}
	}
	for _, f := range c.Flags {
		hideNothing(f)
	}
	act := c.Action
	c.Action = func(ctx context.Context, cmd *cli.Command) error {
		err := checkArguments(cmd)
		if err == nil && act != nil {
			err = act(ctx, cmd)
		} else if err == nil && cmd == cmd.Root() {
			err = cli.ShowRootCommandHelp(cmd)
		} else if err == nil {
			err = cli.ShowSubcommandHelp(cmd)
		}
		if wrong, ok := errors.AsType[usageError](err); ok && wrong.of == nil {
			return usageError{err, cmd}
		}
		return err
	}
	for _, below := range c.Commands {
		govern(below)
	}
}

// usageError is a mistake in the command line of a command.
type usageError struct {
	error
	of *cli.Command // nil: the one that is running
}

func (e usageError) Unwrap() error { return e.error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...), nil} }

// usageLine is the form of a command.
func usageLine(cmd *cli.Command) string {
	parts := []string{cmd.FullName()}
	if len(cmd.Commands) > 0 {
		parts = append(parts, "COMMAND")
	}
	parts = append(parts, "[options]")
	if cmd.ArgsUsage != "" {
		parts = append(parts, cmd.ArgsUsage)
	}
	return strings.Join(parts, " ")
}

// checkArguments refuses more or fewer arguments than ArgsUsage has, and commands that there are not.
func checkArguments(cmd *cli.Command) error {
	given := cmd.Args().Slice()
	if len(cmd.Commands) > 0 && len(given) > 0 {
		return noCommand(cmd, given[0])
	}
	least, most := arity(cmd.ArgsUsage)
	switch {
	case len(given) > most && most == 0:
		return usage("%s takes no arguments; %q is too much", below(cmd), given[0])
	case len(given) > most:
		return usage("%s takes %s; %q is too much", below(cmd), cmd.ArgsUsage, given[most])
	case len(given) < least:
		return usage("%s needs %s", below(cmd), cmd.ArgsUsage)
	}
	return nil
}

func noCommand(cmd *cli.Command, word string) error {
	var names []string
	for _, c := range cmd.Commands {
		if !c.Hidden {
			names = append(names, c.Name)
		}
	}
	text := fmt.Sprintf("there is no command %q", strings.TrimSpace(below(cmd)+" "+word))
	if near := texts.Nearest(word, names); near != "" {
		return usage("%s; did you mean %q?", text, strings.TrimSpace(below(cmd)+" "+near))
	}
	if cmd.Root() == cmd {
		return usage("%s; nexocumula help lists them", text)
	}
	return usage("%s; there are %s", text, strings.Join(names, ", "))
}

// below is the name of a command without that of the program.
func below(cmd *cli.Command) string {
	_, name, _ := strings.Cut(cmd.FullName(), " ")
	return name
}

// arity reads how many arguments a form such as "SELECTOR TIME", "[PLACE]" or "FILE ..." has.
func arity(form string) (least, most int) {
	depth, last := 0, 0
	for _, word := range strings.Fields(strings.ReplaceAll(form, " | ", "|")) {
		depth += strings.Count(word, "[")
		if strings.Trim(word, "[]") == "..." {
			most += 1 << 20
		} else {
			most++
			if depth == 0 {
				least++
			}
		}
		depth -= strings.Count(word, "]")
		last = depth
	}
	if last != 0 {
		panic("cli: the brackets of " + form + " do not match")
	}
	return least, most
}

// wrongOption says what is wrong with an option, and which one may have been meant.
func wrongOption(cmd *cli.Command, err error) error {
	if word := cmd.Args().First(); word != "" && len(cmd.Commands) > 0 && cmd.Command(word) == nil {
		return noCommand(cmd, word)
	}
	const unknown = "flag provided but not defined: "
	if missing, ok := strings.CutPrefix(err.Error(), "Required flag \""); ok {
		name, _, _ := strings.Cut(missing, "\"")
		return fmt.Errorf("%s needs --%s", below(cmd), name)
	}
	name, ok := strings.CutPrefix(err.Error(), unknown)
	if !ok {
		return err
	}
	var known []string
	for _, f := range slices.Concat(cmd.Flags, cmd.Root().Flags) {
		known = append(known, f.Names()...)
	}
	name = strings.TrimLeft(name, "-")
	if near := texts.Nearest(name, known); near != "" {
		return fmt.Errorf("there is no option --%s; did you mean --%s?", name, near)
	}
	return fmt.Errorf("there is no option --%s", name)
}

// hideNothing keeps a help text from calling 0 the default of an option that is not set.
func hideNothing(f cli.Flag) {
	switch f := f.(type) {
	case *cli.IntFlag:
		f.HideDefault = f.Value == 0
	case *cli.Uint64Flag:
		f.HideDefault = f.Value == 0
	case *cli.BoolFlag:
		f.HideDefault = true
	}
}
