package payload

import (
	"encoding/json"
	"fmt"
	"time"
)

// describe names for people what a payload has somewhere.
func describe(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case string:
		return fmt.Sprintf("the text %q", clip(v))
	case json.Number:
		return "the number " + clip(v.String())
	case float64, int64:
		return fmt.Sprintf("the number %v", v)
	case bool:
		return fmt.Sprint(v)
	case []byte:
		return fmt.Sprintf("%d bytes", len(v))
	case time.Time:
		return "a time"
	case []any:
		return "an array"
	default:
		return "an object"
	}
}
