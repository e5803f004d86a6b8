package board

import "strings"

// What stands for a place.
const (
	Site    = "{site}"
	Station = "{station}"
)

// At returns a path or selector of a board as it reads at a place, the path of a site or a
// station; ok is false when it needs a place that about does not say.
func At(text, about string) (out string, ok bool) {
	levels := strings.Split(about, "/")
	for placeholder, place := range map[string]string{Site: levels[0], Station: about} {
		if !strings.Contains(text, placeholder) {
			continue
		}
		if place == "" || placeholder == Station && len(levels) < 2 {
			return text, false
		}
		text = strings.ReplaceAll(text, placeholder, place)
	}
	return text, true
}

// Names returns all paths and selectors of a board as they are written.
func (b *Board) Names() (out []string) {
	for _, h := range b.Head {
		out = append(out, h.Series)
	}
	for _, l := range b.Lanes {
		out = append(out, l.Series...)
		if l.Calculate != nil {
			for _, from := range l.Calculate.Inputs {
				path, _, _ := strings.Cut(from, "@")
				out = append(out, path)
			}
		}
	}
	return out
}
