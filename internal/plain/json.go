package plain

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// JSON says in words what is wrong with JSON that somebody sent.
func JSON(err error) error {
	if wrong, ok := errors.AsType[*json.UnmarshalTypeError](err); ok {
		place := "the whole"
		if wrong.Field != "" {
			place = wrong.Field
		}
		return fmt.Errorf("%s is %s where %s belongs", place, article(wrong.Value), kindOf(wrong.Type.Kind().String()))
	}
	if wrong, ok := errors.AsType[*json.SyntaxError](err); ok {
		return fmt.Errorf("it is no JSON from byte %d on", wrong.Offset)
	}
	if wrong, ok := errors.AsType[*time.ParseError](err); ok {
		return fmt.Errorf("%q is no time; write one such as 2026-03-01T08:00:00Z", wrong.Value)
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return errors.New("it ends early, or is empty")
	}
	return errors.New(strings.TrimPrefix(err.Error(), "json: "))
}

func article(value string) string {
	value, _, _ = strings.Cut(value, " ")
	switch value {
	case "array", "object":
		return "an " + value
	case "string":
		return "text"
	case "bool":
		return "true or false"
	}
	return "a " + value
}

func kindOf(kind string) string {
	switch kind {
	case "string":
		return "text"
	case "bool":
		return "true or false"
	case "slice", "array":
		return "an array"
	case "struct", "map", "interface":
		return "an object"
	}
	return "a number"
}
