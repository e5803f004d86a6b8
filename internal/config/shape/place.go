package shape

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nexocumula/internal/core/span"
	"nexocumula/internal/secret"
)

// Place is where something stands in a file, or should stand. What is wrong there is
// reported with its line.
type Place struct {
	file *File
	path string
}

const root = "$"

// Key returns the place of a key below.
func (p Place) Key(name string) Place { return Place{p.file, p.path + "." + name} }

// Above returns the place of what a key or an element belongs to.
func (p Place) Above() Place {
	return Place{p.file, p.path[:max(strings.LastIndexAny(p.path, ".["), len(root))]}
}

// Item returns the place of an element of a list.
func (p Place) Item(i int) Place { return Place{p.file, fmt.Sprintf("%s[%d]", p.path, i)} }

// Wrong reports a mistake. When the key is not there, it is reported where it should be.
func (p Place) Wrong(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if p.path != root {
		text = strings.TrimPrefix(p.path, root+".") + ": " + text
	}
	out := Problem{File: p.file.name, Line: 1, Column: 1, Text: text}
	for at := p.path; at != root && at != ""; at = at[:max(0, strings.LastIndexAny(at, ".["))] {
		if line, column, ok := p.file.position(at); ok {
			out.Line, out.Column = line, column
			break
		}
	}
	p.file.problems = append(p.file.problems, out)
}

// Advise adds advice for the author of the file about something that is no mistake.
func (p Place) Advise(format string, args ...any) {
	wrong := len(p.file.problems)
	p.Wrong(format, args...)
	p.file.advice = append(p.file.advice, p.file.problems[wrong:]...)
	p.file.problems = p.file.problems[:wrong]
}

// Parsed reports what parse says of what stands at a place.
func Parsed[F, T any](at Place, from F, parse func(F) (T, error)) T {
	v, err := parse(from)
	if err != nil {
		at.Wrong("%v", err)
	}
	return v
}

// Duration reads a length of time.
func (p Place) Duration(text string, otherwise time.Duration) time.Duration {
	if text == "" {
		return otherwise
	}
	return Parsed(p, text, span.Parse)
}

// Within reads a length of time that has bounds.
func (p Place) Within(text string, otherwise, least, most time.Duration) time.Duration {
	out := p.Duration(text, otherwise)
	if out != 0 && (out < least || out > most) {
		p.Wrong("%s is not possible; use %s to %s", text, span.Format(least), span.Format(most))
	}
	return out
}

// Count reads a whole number that has bounds; 0 stands for none given.
func (p Place) Count(n, otherwise, least, most int, what string) int {
	if n == 0 {
		return otherwise
	}
	if n < least || n > most {
		p.Wrong("%d %s not possible; use %d to %d", n, what, least, most)
	}
	return n
}

// Local reports whether an address to listen at can be reached from this machine only.
func Local(address string) bool {
	host, _, err := net.SplitHostPort(address)
	return err == nil && (host == "localhost" || net.ParseIP(host).IsLoopback())
}

// HostPort checks an address to listen at.
func (p Place) HostPort(address string) {
	if _, port, err := net.SplitHostPort(address); err != nil || port == "" {
		p.Wrong("%q is not an address to listen at; write host:port, such as 127.0.0.1:8460", address)
	}
}

// Secret says where a secret is; it is never in the file itself.
type Secret struct {
	File string `yaml:"secret_file" says:"a file that holds the secret"`
	Env  string `yaml:"secret_env" says:"or the environment variable that does"`

	Credential string `yaml:"secret_credential" says:"or the name of the systemd credential that does"`
}

// Secret reads a secret from where the file says it is.
func (p Place) Secret(s Secret, needed bool) string {
	switch {
	case s.File != "" && s.Env != "" || s.Credential != "" && s.File+s.Env != "":
		p.Key("secret_env").Wrong("give one of secret_file, secret_env and secret_credential")
	case s.Credential != "":
		dir := os.Getenv("CREDENTIALS_DIRECTORY")
		if dir == "" {
			p.Key("secret_credential").Wrong("systemd handed no credentials over (CREDENTIALS_DIRECTORY is not set); name it in the unit, as in LoadCredential=%s:/etc/nexocumula/%s, or in a shell their folder with --credentials",
				s.Credential, s.Credential)
			return ""
		}
		return p.Key("secret_credential").Private(filepath.Join(dir, filepath.Base(s.Credential)))
	case s.File != "":
		return p.Key("secret_file").Private(s.File)
	case s.Env != "":
		text := os.Getenv(s.Env)
		if text == "" {
			p.Key("secret_env").Wrong("the environment variable %s is not set", s.Env)
		}
		return text
	case needed:
		p.Key("secret_file").Wrong("a secret is needed: give secret_file: with a file that holds it, secret_env: with a variable's name, or secret_credential: with that of a systemd credential")
	}
	return ""
}

// Private reads a file that nobody but its owner and group may.
func (p Place) Private(file string) string {
	text, err := os.ReadFile(file)
	switch {
	case err != nil:
		p.Wrong("the secret cannot be read: %v", err)
	case strings.TrimSpace(string(text)) == "":
		p.Wrong("the file %s is empty where a secret should be", file)
	default:
		p.Note(text)
		if err := secret.OnlyOwner(file); err != nil {
			p.Wrong("%v", err)
		}
	}
	return strings.TrimSpace(string(text))
}
