package payload

import "testing"

// Example is a payload that a form takes, and how it is read.
type Example struct {
	Payload  []byte
	Messages *Messages
}

// Good returns the examples of a form.
func Good(t testing.TB, form string) (out []Example) {
	for _, e := range examples(t, form) {
		for _, p := range e.Payloads {
			out = append(out, Example{bytesOf(t, p.Text, p.Hex), e.messages(t, form)})
		}
	}
	return out
}
