// Package asking runs the questions of docs/asking.md against a demo, to write the answers
// into it and to test that they still come.
package asking

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
)

// Question is one of the document's, with its answer there.
type Question struct{ Title, Command, Answer string }

var block = regexp.MustCompile("(?s)\n## ([^\n]*)\n(.*?)```sh\n(.*?)\n```\n\n```text\n(.*?)```\n")

// Parse finds the questions.
func Parse(document string) (out []Question) {
	for _, m := range block.FindAllStringSubmatch(document, -1) {
		out = append(out, Question{m[1], m[3], m[4]})
	}
	return out
}

// Demo is a running one.
type Demo struct {
	Binary   string
	Consoles map[string]string // by site; of the central, central
}

// Consoles reads the addresses that a demo prints.
func Consoles(said string) map[string]string {
	out := map[string]string{}
	for _, line := range strings.Split(said, "\n") {
		if fields := strings.Fields(line); len(fields) > 3 && fields[0] == "Console" {
			out[fields[len(fields)-2]] = fields[len(fields)-1]
		}
	}
	return out
}

// Ask runs a question's command as the document says: in a shell, with the demo's program.
func (d Demo) Ask(q Question) (string, error) {
	bin, err := os.MkdirTemp("", "asking-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(bin)
	program, err := filepath.Abs(d.Binary)
	if err != nil {
		return "", err
	}
	if err := os.Symlink(program, filepath.Join(bin, "nexocumula")); err != nil {
		return "", err
	}
	cmd := exec.Command("bash", "-c", q.Command)
	cmd.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "NEXOCUMULA_AT="+d.Consoles["central"],
		"STONY_BECK="+d.Consoles["stony-beck"])
	var wrong bytes.Buffer
	cmd.Stderr = &wrong
	out, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("%s: %w: %s", q.Command, err, wrong.String())
	}
	return tidy(string(out)), nil
}

// tidy takes spaces from the ends of lines.
func tidy(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n") + "\n"
}

// mostLines of an answer stand in the document.
const mostLines = 12

// Refresh writes the answers into a document.
func (d Demo) Refresh(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	document := string(text)
	for _, q := range Parse(document) {
		answer, err := d.Ask(q)
		if err != nil {
			return err
		}
		if lines := strings.SplitAfter(answer, "\n"); len(lines) > mostLines+1 {
			answer = strings.Join(lines[:mostLines], "") + "…\n"
		}
		old := "```sh\n" + q.Command + "\n```\n\n```text\n" + q.Answer + "```\n"
		document = strings.Replace(document, old, "```sh\n"+q.Command+"\n```\n\n```text\n"+answer+"```\n", 1)
	}
	return os.WriteFile(path, []byte(document), 0o644)
}
