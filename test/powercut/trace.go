// Package powercut plays power cuts: from what a program had the system write, as strace recorded it, it makes the files as a
// disk may have them when the power fails at some moment.
package powercut

import (
	"bufio"
	"cmp"
	"encoding/hex"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Arguments are those that strace needs besides a file for its record and the program.
func Arguments() []string {
	return []string{
		"-f", "-ttt", "-T", "-y", "-xx", "-s", "16777216", "-e", "signal=none", "-e",
		"trace=open,openat,pwrite64,write,ftruncate,fdatasync,fsync,syncfs,rename,renameat,renameat2,unlink,unlinkat,mkdir,mkdirat",
	}
}

type kind int

const (
	wrote kind = iota
	appended
	cut
	synced
	all // everything was synced
	made
	moved
	removed
)

// op is something that a program had the system do.
type op struct {
	kind       kind
	path, to   string
	data       []byte
	at         int64
	start, end float64 // seconds since 1970
}

// slash begins the path of a file, as strace writes it.
const slash = `\x2f`

var (
	line    = regexp.MustCompile(`^(\d+) +(\d+\.\d+) (.*)$`)
	resumed = regexp.MustCompile(`^<\.\.\. \w+ resumed>(.*)$`)
	took    = regexp.MustCompile(`^(.*) = (-?\d+)(.*?)(?: <(\d+\.\d+)>)?$`)
	handle  = regexp.MustCompile(`^\w+\(\d+<([^>]*)>`)

	text = regexp.MustCompile(`"((?:\\x[0-9a-f]{2})*)"`)
)

// read returns the calls that are about files below a folder, in the order in which they began.
func read(record io.Reader, below string) (ops []op, err error) {
	lines := bufio.NewScanner(record)
	lines.Buffer(nil, 128<<20)
	type open struct {
		begin float64
		text  string
	}
	waiting := map[string]open{}
	for lines.Scan() {
		m := line.FindStringSubmatch(lines.Text())
		if m == nil {
			continue
		}
		at, err := strconv.ParseFloat(m[2], 64)
		if err != nil {
			return nil, err
		}
		begin, call := at, m[3]
		if part, ok := strings.CutSuffix(call, " <unfinished ...>"); ok {
			waiting[m[1]] = open{at, part}
			continue
		}
		if rest := resumed.FindStringSubmatch(call); rest != nil {
			before := waiting[m[1]]
			begin, call = before.begin, before.text+rest[1]
		}
		done := took.FindStringSubmatch(call)
		if done == nil || strings.HasPrefix(done[2], "-") {
			continue // it failed
		}
		end := at
		if begin == at && done[4] != "" {
			d, err := strconv.ParseFloat(done[4], 64)
			if err != nil {
				return nil, err
			}
			end += d
		}
		more, err := opsOf(done[1])
		if err != nil {
			return nil, fmt.Errorf("%.200s: %w", call, err)
		}
		for _, o := range more {
			if o.start, o.end = begin, end; o.kind == all || strings.HasPrefix(o.path+"/", below+"/") {
				ops = append(ops, o)
			}
		}
	}
	slices.SortStableFunc(ops, func(a, b op) int { return cmp.Compare(a.start, b.start) })
	return ops, lines.Err()
}

func opsOf(call string) (out []op, err error) {
	name, rest, _ := strings.Cut(call, "(")
	var path string
	if m := handle.FindStringSubmatch(call); m != nil {
		if !strings.HasPrefix(m[1], slash) {
			return nil, nil // a socket or the like
		}
		if path, err = unhex(m[1]); err != nil {
			return nil, err
		}
	}
	var texts []string
	for _, m := range text.FindAllStringSubmatch(rest, -1) {
		t, err := unhex(m[1])
		if err != nil {
			return nil, err
		}
		texts = append(texts, t)
	}
	fields := strings.Split(strings.TrimSuffix(call, ")"), ", ")
	number := func() (int64, error) { return strconv.ParseInt(fields[len(fields)-1], 10, 64) }
	switch name {
	case "pwrite64":
		at, err := number()
		return []op{{kind: wrote, path: path, data: []byte(texts[0]), at: at}}, err
	case "write":
		return []op{{kind: appended, path: path, data: []byte(texts[0])}}, nil
	case "ftruncate":
		at, err := number()
		return []op{{kind: cut, path: path, at: at}}, err
	case "fsync", "fdatasync":
		return []op{{kind: synced, path: path}}, nil
	case "syncfs":
		return []op{{kind: all}}, nil
	case "open", "openat":
		if strings.Contains(call, "O_CREAT") {
			out = append(out, op{kind: made, path: texts[0]})
		}
		if strings.Contains(call, "O_TRUNC") {
			out = append(out, op{kind: cut, path: texts[0]})
		}
		return out, nil
	case "mkdir", "mkdirat":
		return nil, nil // folders are made when files are put there
	case "rename", "renameat", "renameat2":
		return []op{{kind: moved, path: texts[0], to: texts[1]}}, nil
	case "unlink", "unlinkat":
		return []op{{kind: removed, path: texts[0]}}, nil
	}
	return nil, fmt.Errorf("an unknown call %s", name)
}

func unhex(text string) (string, error) {
	raw, err := hex.DecodeString(strings.ReplaceAll(text, `\x`, ""))
	return string(raw), err
}
