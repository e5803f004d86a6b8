package series

import (
	"fmt"
	"strings"
)

const (
	maxPathBytes = 240
	maxLevels    = 12
)

// Path is a checked series path: two to twelve levels separated by "/", each of
// ASCII letters, digits, "_", "-" and ".". Get one from ParsePath.
type Path string

// Site returns the first level.
func (p Path) Site() string {
	site, _, _ := strings.Cut(string(p), "/")
	return site
}

// ParsePath checks s and says which level is wrong and why.
func ParsePath(s string) (Path, error) {
	if s == "" {
		return "", fmt.Errorf("series path is empty; write site/station/quantity")
	}
	if len(s) > maxPathBytes {
		return "", fmt.Errorf("series path is %d bytes long; at most %d are allowed", len(s), maxPathBytes)
	}
	levels := strings.Split(s, "/")
	if len(levels) < 2 || len(levels) > maxLevels {
		return "", fmt.Errorf("series path %q has %d level(s); write 2 to %d, as in site/station/quantity", s,
			len(levels), maxLevels)
	}
	for i, level := range levels {
		if err := CheckLevel(level); err != nil {
			return "", fmt.Errorf("series path %q, level %d: %w", s, i+1, err)
		}
	}
	return Path(s), nil
}

// CheckLevel checks one level of a path.
func CheckLevel(level string) error {
	if level == "" {
		return fmt.Errorf("is empty")
	}
	if strings.Trim(level, ".") == "" {
		return fmt.Errorf("%q names no place; dots alone mean a folder elsewhere", level)
	}
	for _, letter := range level {
		if letter > 127 || !levelByte(byte(letter)) {
			return fmt.Errorf("%q holds %q; use the letters a to z, digits, '_', '-' and '.'", level, letter)
		}
	}
	return nil
}

func levelByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '-' || c == '.'
}
