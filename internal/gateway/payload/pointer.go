package payload

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"github.com/go-openapi/jsonpointer"
)

// pointer is a checked JSON Pointer.
type pointer struct {
	text   string
	tokens []string
}

func parsePointer(s string) (pointer, error) {
	p, err := jsonpointer.New(s)
	if err != nil {
		return pointer{}, fmt.Errorf("%q is not a JSON Pointer (RFC 6901), such as /water/temp: %w", s, err)
	}
	return pointer{s, p.DecodedTokens()}, nil
}

// in returns the part of a document that the pointer names (RFC 6901, 4). The library's own walk goes by reflection,
// which takes longer than parsing.
func (p pointer) in(document any) (any, error) {
	for _, token := range p.tokens {
		if text, is := document.(string); is {
			document = inner(text)
		}
		ok := false
		switch at := document.(type) {
		case map[string]any:
			document, ok = at[token]
		case map[any]any: // of CBOR
			document, ok = keyed(at, token)
			document = plainValue(document)
		case []any:
			i, err := strconv.Atoi(token)
			if ok = err == nil && i >= 0 && i < len(at) && (token == "0" || token[0] > '0'); ok {
				document = plainValue(at[i])
			}
		}
		if !ok {
			return nil, fmt.Errorf("payload has nothing at %s", p.text)
		}
	}
	return document, nil
}

// inner returns the document that a text of another document is, such as JSON in JSON.
func inner(text string) (document any) {
	if bare := strings.TrimSpace(text); len(bare) > 1 && (bare[0] == '{' || bare[0] == '[') &&
		json.Unmarshal([]byte(bare), &document) == nil {
		return document
	}
	return text
}
