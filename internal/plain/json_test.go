package plain

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhatIsWrongWithJSONIsSaidInWords(t *testing.T) {
	type inner struct {
		Series []string `json:"series"`
	}
	type body struct {
		About string     `json:"about"`
		At    *time.Time `json:"at"`
		Count int        `json:"count"`
		Yes   bool       `json:"yes"`
		Lanes []inner    `json:"lanes"`
	}
	for text, says := range map[string]string{
		`{"about":5}`: "about is a number where text belongs", `[1]`: "the whole is an array where an object belongs", `{"count":"x"}`: "count is text where a number belongs",
		`{"yes":1}`: "yes is a number where true or false belongs", `{"lanes":{}}`: "lanes is an object where an array belongs", `{"lanes":[{"series":[1]}]}`: "lanes.series is a number where text belongs",
		`{"at":"x"}`: `"x" is no time; write one such as 2026-03-01T08:00:00Z`, `{"about`: "it ends early", ``: "it ends early", `{x}`: "it is no JSON from byte 2 on", `{"abuot":1}`: `unknown field "abuot"`,
	} {
		d := json.NewDecoder(strings.NewReader(text))
		d.DisallowUnknownFields()
		err := d.Decode(&body{})
		got := JSON(err).Error()
		assert.Contains(t, got, says, text)
		assert.NotContains(t, got, "json:")
		assert.NotContains(t, got, "Go ")
	}
}
