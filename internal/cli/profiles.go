package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/secret"
)

const defaultAddress = "http://127.0.0.1:8460"

// profile is what is kept of a service, by its address.
type profile struct {
	Name        string `json:"name,omitempty"` // that --at takes; "": none
	Token       string `json:"token,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"` // of the certificate that a person said yes to
}

var profileName = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)

// profilesFile returns the file of the profiles, in a folder of the user's own.
func profilesFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder to keep a profile in: %w", err)
	}
	return filepath.Join(dir, "nexocumula", "profiles.json"), nil
}

// profiles reads them by address.
func profiles() (map[string]profile, error) {
	out := map[string]profile{}
	file, err := profilesFile()
	if err != nil {
		return out, nil // without a home nothing was kept
	}
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err == nil {
		if err = secret.OnlyOwner(file); err == nil {
			err = json.Unmarshal(text, &out)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("reading the profiles in %s: %w", file, err)
	}
	return out, nil
}

// keep changes what is kept of a service. A name goes over from the service that had it.
func keep(address string, change func(*profile)) (file string, err error) {
	all, err := profiles()
	if err != nil {
		return "", err
	}
	if file, err = profilesFile(); err != nil {
		return "", err
	}
	one := all[address]
	change(&one)
	for other, p := range all {
		if one.Name != "" && p.Name == one.Name {
			p.Name = ""
			all[other] = p
		}
	}
	all[address] = one
	maps.DeleteFunc(all, func(_ string, p profile) bool { return p == profile{} })
	text, err := json.MarshalIndent(all, "", "  ")
	if err == nil {
		err = secret.WriteFile(file, append(text, '\n'))
	}
	if err != nil {
		return "", fmt.Errorf("keeping the profile in %s: %w", file, err)
	}
	return file, nil
}

// addressOf reads what --at says: an address, host:port, or the name of a profile.
func addressOf(text string) (string, error) {
	if text == "" { // as an environment variable may be
		return defaultAddress, nil
	}
	if strings.Contains(text, "://") {
		u, err := url.Parse(text)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return "", fmt.Errorf("%q is no address; write http://host:port, https://host:port or host:port", text)
		}
		return strings.TrimRight(text, "/"), nil
	}
	all, err := profiles()
	if err != nil {
		return "", err
	}
	var names []string
	for address, p := range all {
		if p.Name == text {
			return address, nil
		}
		if p.Name != "" {
			names = append(names, p.Name)
		}
	}
	if _, port, err := net.SplitHostPort(text); err == nil && port != "" {
		if _, known := all["https://"+text]; known {
			return "https://" + text, nil
		}
		return "http://" + text, nil
	}
	known := "there are no profiles; login --save-as makes one"
	if len(names) > 0 {
		slices.Sort(names)
		known = "the profiles are " + strings.Join(names, ", ")
	}
	return "", fmt.Errorf("%q is neither an address, such as 10.0.3.7:8460, nor a profile; %s", text, known)
}

// serviceAt is the address of the service that a command line names. What --at says was checked before.
func serviceAt(cmd *cli.Command) string {
	address, _ := addressOf(cmd.String(atFlag.Name))
	return address
}

func profileCommand() *cli.Command {
	return &cli.Command{
		Name: "profile", Usage: "List and remove what is kept of services: their names, sessions and fingerprints",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List profiles", Flags: []cli.Flag{outputFlag}, Action: listProfiles},
			{Name: "remove", Usage: "Forget a service", ArgsUsage: "PROFILE", Flags: []cli.Flag{sayFlag}, Action: removeProfile},
		},
	}
}

// keptProfile is a profile as it is listed: without its token.
type keptProfile struct {
	Name        string `json:"name"`
	Address     string `json:"address"`
	LoggedIn    bool   `json:"logged_in"`
	Fingerprint string `json:"fingerprint"`
}

func listProfiles(_ context.Context, cmd *cli.Command) error {
	all, err := profiles()
	if err != nil {
		return err
	}
	answer := []keptProfile{}
	for address, p := range all {
		answer = append(answer, keptProfile{p.Name, address, p.Token != "", p.Fingerprint})
	}
	slices.SortFunc(answer, func(a, b keptProfile) int { return strings.Compare(a.Name+" "+a.Address, b.Name+" "+b.Address) })
	g := grid{
		columns: []column{{name: "name"}, {name: "address"}, {name: "logged_in"}, {name: "fingerprint"}},
		empty:   "There are no profiles; nexocumula login makes one.",
	}
	for _, p := range answer {
		g.rows = append(g.rows, []cell{
			plain(p.Name), plain(p.Address), yesNo(p.LoggedIn, "yes", "no"), plain(p.Fingerprint),
		})
	}
	return show(cmd, answer, g)
}

func removeProfile(_ context.Context, cmd *cli.Command) error {
	address, err := addressOf(cmd.Args().First())
	if err != nil {
		return usageError{err, nil}
	}
	all, err := profiles()
	if err != nil {
		return err
	}
	was, known := all[address]
	switch {
	case !known:
		return fmt.Errorf("nothing is kept of %s", address)
	case was.Token != "":
		return fmt.Errorf("you are logged in at %s; nexocumula logout --at %s ends that first", address, cmd.Args().First())
	}
	if _, err := keep(address, func(p *profile) { *p = profile{} }); err != nil {
		return err
	}
	return say(cmd, keptProfile{was.Name, address, false, was.Fingerprint}, "The service at "+address+" was forgotten.")
}
