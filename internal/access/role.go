package access

import (
	"fmt"
	"slices"
	"strings"
)

// Role is a level of rights.
type Role string

// The roles. The first four include those before them; a sender and a gateway may do
// nothing but what they are for.
const (
	Anyone        Role = "anyone"        // has not said who he is
	Viewer        Role = "viewer"        // looks
	Operator      Role = "operator"      // writes notes, changes boards
	Engineer      Role = "engineer"      // configures, sees what devices sent and why it was refused
	Administrator Role = "administrator" // gives accounts, tokens and gateways their rights, reads the audit
	Sender        Role = "sender"        // sends readings
	Gateway       Role = "gateway"       // replicates
)

var people = []Role{Anyone, Viewer, Operator, Engineer, Administrator}

// Allows reports whether who has the role may do what another is needed for.
func (r Role) Allows(needed Role) bool {
	have, want := slices.Index(people, r), slices.Index(people, needed)
	if want < 0 {
		return r == needed
	}
	return want == 0 || have >= want
}

// ParseRole checks the role of an account, or of a token, which may be a sender's too.
func ParseRole(text string, token bool) (Role, error) {
	possible := slices.Clone(people[1:])
	if token {
		possible = append(possible, Sender)
	}
	if r := Role(text); slices.Contains(possible, r) {
		return r, nil
	}
	names := make([]string, len(possible))
	for i, r := range possible {
		names[i] = string(r)
	}
	return "", fmt.Errorf("%q is no role; use %s", text, strings.Join(names, ", "))
}
