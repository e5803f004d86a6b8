// Command clocks runs the tests whose outcome could depend on the time of day as if it were another time: at eight
// times of a day, at the end of a month, and on both days when the clocks of Europe change.
//
//	clocks [-at 2027-03-28T00:30:00Z]... [PACKAGE...]
//
// Go programs get their time from a copy of Go's own package time that adds CLOCKS_AHEAD seconds, pages in the
// browser from a script that test/browser gives them, and other programs, brokers among them, from libfaketime.
package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// usual are the packages that run a demo or look at ranges of the calendar.
var usual = []string{"./internal/demo", "./internal/cli", "./test/console", "./test/e2e"}

func main() {
	var times []time.Time
	flag.Func("at", "a time to run at, as 2027-03-28T00:30:00Z; repeatable; default: eleven times", func(text string) error {
		at, err := time.Parse(time.RFC3339, text)
		times = append(times, at)
		return err
	})
	flag.Parse()
	if len(times) == 0 {
		times = eleven(time.Now().UTC())
	}
	packages := flag.Args()
	if len(packages) == 0 {
		packages = usual
	}
	if err := run(times, packages); err != nil {
		fmt.Fprintln(os.Stderr, "clocks:", err)
		os.Exit(1)
	}
}

// eleven returns eight times of the day after now, and the next end of a month and changes of clocks.
func eleven(now time.Time) (out []time.Time) {
	day := now.Truncate(24 * time.Hour).Add(24 * time.Hour)
	for i := range 8 {
		out = append(out, day.Add(time.Duration(i)*3*time.Hour+20*time.Minute))
	}
	return append(out, time.Date(now.Year(), now.Month()+2, 1, 0, -50, 0, 0, time.UTC), lastSunday(now, time.March),
		lastSunday(now, time.October))
}

// lastSunday returns the next last Sunday of a month at 02:30 UTC, an hour and a half after clocks changed there.
func lastSunday(now time.Time, month time.Month) time.Time {
	for year := now.Year(); ; year++ {
		last := time.Date(year, month+1, 0, 2, 30, 0, 0, time.UTC)
		if last = last.AddDate(0, 0, -int(last.Weekday())); last.After(now) {
			return last
		}
	}
}

func run(times []time.Time, packages []string) error {
	work, err := os.MkdirTemp("", "nexocumula-clocks-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	overlay, err := overlay(work)
	if err != nil {
		return err
	}
	libraries, err := filepath.Glob("/usr/lib/*/faketime/libfaketime.so.1")
	if err != nil || len(libraries) == 0 {
		return fmt.Errorf("libfaketime is not installed; on Debian: apt-get install libfaketime")
	}
	if err := os.WriteFile(filepath.Join(work, "sitecustomize.py"), []byte(python), 0o600); err != nil {
		return err
	}
	binary := filepath.Join(work, "nexocumula")
	if err := goTool(nil, "build", "-overlay", overlay, "-o", binary, "./cmd/nexocumula"); err != nil {
		return err
	}
	failed := 0
	for _, at := range times {
		ahead := int(time.Until(at).Seconds())
		fmt.Printf("As if it were %s:\n", at.Format(time.RFC3339))
		env := []string{
			fmt.Sprintf("CLOCKS_AHEAD=%d", ahead), "NEXOCUMULA_BINARY=" + binary,
			"LD_PRELOAD=" + libraries[0], fmt.Sprintf("FAKETIME=%+ds", ahead), "FAKETIME_DONT_FAKE_MONOTONIC=1",
			"PYTHONPATH=" + work,
		}
		if err := goTool(env,
			append([]string{"test", "-count=1", "-timeout", "20m", "-overlay", overlay}, packages...)...); err != nil {
			failed++
		}
	}
	if failed > 0 {
		return fmt.Errorf("tests failed at %d of %d times", failed, len(times))
	}
	return nil
}

func goTool(env []string, args ...string) error {
	cmd := exec.Command("go", args...)
	cmd.Env = append(os.Environ(), env...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	return cmd.Run()
}

const (
	reads  = "	sec, nsec, mono := runtimeNow()\n	if mono == 0 {\n		return Time{uint64(nsec), sec + unixToInternal, Local}"
	shifts = "	sec, nsec, mono := runtimeNow()\n	if !runtimeIsBubbled() {\n		sec += clocksAhead\n	}\n" +
		"	if mono == 0 {\n		return Time{uint64(nsec), sec + unixToInternal, Local}"
	parses = `
var clocksAhead = func() (n int64) {
	text, _ := syscall.Getenv("CLOCKS_AHEAD")
	sign := int64(1)
	for _, c := range []byte(text) {
		if c == '-' {
			sign = -1
		} else {
			n = 10*n + int64(c-'0')
		}
	}
	return sign * n
}()
`
)

// python replaces a sleep that libfaketime makes impossible: until a time of the monotonic clock, which it does
// not shift when asked not to.
const python = `import select, time
time.sleep = lambda seconds: select.select([], [], [], seconds)
`

// overlay writes a copy of Go's time.go that adds the seconds, and the file that has the compiler take it.
func overlay(work string) (string, error) {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return "", err
	}
	original := filepath.Join(strings.TrimSpace(string(root)), "src", "time", "time.go")
	source, err := os.ReadFile(original)
	if err != nil {
		return "", err
	}
	if !bytes.Contains(source, []byte(reads)) {
		return "", fmt.Errorf("%s does not read the clock as expected; adapt this command to it", original)
	}
	text := strings.Replace(string(source), reads, shifts, 1)
	text = strings.Replace(text, "import (\n", "import (\n\t\"syscall\"\n", 1) + parses
	changed := filepath.Join(work, "time.go")
	if err := os.WriteFile(changed, []byte(text), 0o644); err != nil {
		return "", err
	}
	list, err := json.Marshal(map[string]any{"Replace": map[string]string{original: changed}})
	if err != nil {
		return "", err
	}
	path := filepath.Join(work, "overlay.json")
	return path, os.WriteFile(path, list, 0o644)
}
