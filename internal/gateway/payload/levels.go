package payload

import (
	"fmt"
	"strings"
	"sync"

	"nexocumula/internal/core/series"
)

// levels makes levels of paths of the names that topics and payloads bind, and notices when two names make
// the same one: values of two devices would come into one series.
type levels struct {
	mu   sync.Mutex
	from map[string]string // by name and level: the text that it was made of
}

// mostLevels bounds what ever new names can make it remember.
const mostLevels = 100_000

// level returns a text as series.CleanLevel makes a level of it.
func (l *levels) level(name, text string) (string, error) {
	out := series.CleanLevel(text)
	if err := series.CheckLevel(out); err != nil {
		return "", fmt.Errorf("{%s} is %q here, of which no level of a path can be made", name, clip(text))
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	key := name + "\x00" + out
	first, known := l.from[key]
	switch {
	case known && first != text:
		return "", fmt.Errorf("{%s} is %q here, and was %q before: both make %q, and would come into one series; tell them apart with lookup",
			name, clip(text), clip(first), out)
	case !known && len(l.from) < mostLevels:
		if l.from == nil {
			l.from = map[string]string{}
		}
		l.from[key] = strings.Clone(text)
	}
	return out, nil
}
