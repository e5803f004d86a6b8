package fieldwork

import (
	"errors"
	"fmt"
	"os"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/config/edit"
	"nexocumula/internal/kinds"
)

// Append appends lines to a configuration, and says how that changes it. Only with Write it is
// written, and only when it is good. Where the lines come from somebody who has not the right to the service's
// files, confined says where files have to be that they name, and data which folder is the service's own.
func Append(file string, want client.Append, confined *config.Field, data string) (out client.Appended, err error) {
	out.File = file
	if want.Sources == "" && want.Rules == "" {
		return out, wrong("give sources or rules to append")
	}
	if confined != nil {
		for _, lines := range []string{want.Sources, want.Rules} {
			items, err := edit.Items(lines)
			if lines == "" {
				continue
			}
			if err != nil {
				return out, Wrong{err}
			}
			if err := confine(items, *confined, data); err != nil {
				return out, err
			}
		}
	}
	before, err := os.ReadFile(file)
	if err != nil {
		return out, fmt.Errorf("reading the configuration: %w", err)
	}
	after, err := edit.Append(string(before),
		edit.Lists{"gateway.sources": want.Sources, "gateway.series": want.Rules}, "gateway.series", "gateway.sources")
	if err != nil {
		return out, Wrong{fmt.Errorf("the lines cannot be appended to %s: %w", file, err)}
	}
	if out.Difference, err = edit.Difference(file, string(before), after); err != nil {
		return out, err
	}
	if _, err := config.Parse(file+" (new)", []byte(after), kinds.All); err != nil {
		return out, Wrong{fmt.Errorf("with these lines the configuration would not be good, and it stays as it is:\n%w",
			err)}
	}
	if !want.Write {
		return out, nil
	}
	now, err := os.ReadFile(file)
	if err != nil {
		return out, err
	}
	if string(now) != string(before) {
		return out, errors.New("the configuration was changed by somebody else meanwhile; look at the difference again")
	}
	out.Written = true
	return out, edit.Write(file, after)
}
