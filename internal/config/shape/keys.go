package shape

import (
	"reflect"
	"strings"
)

// Key is one of a part of a file, for people.
type Key struct {
	Name    string // with the keys above it, such as registers.type
	Default string // what counts without it; required
	Says    string
}

// Keys lists the configuration keys of a struct from its field tags: is says what counts when a key is not there,
// says what it is for.
func Keys(structs ...any) (out []Key) {
	for _, one := range structs {
		out = append(out, keysOf("", reflect.TypeOf(one).Elem())...)
	}
	return out
}

func keysOf(above string, of reflect.Type) (out []Key) {
	for i := range of.NumField() {
		field := of.Field(i)
		name, options, _ := strings.Cut(field.Tag.Get("yaml"), ",")
		if options == "inline" {
			out = append(out, keysOf(above, field.Type)...)
			continue
		}
		out = append(out, Key{above + name, field.Tag.Get("is"), field.Tag.Get("says")})
		below := field.Type
		if below.Kind() == reflect.Slice || below.Kind() == reflect.Pointer {
			below = below.Elem()
		}
		if below.Kind() == reflect.Struct && below != reflect.TypeFor[Part]() {
			out = append(out, keysOf(above+name+".", below)...)
		}
	}
	return out
}
