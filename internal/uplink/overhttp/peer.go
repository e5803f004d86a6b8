package overhttp

import (
	"encoding/json"
	"slices"

	"nexocumula/internal/wire"
)

// peer is what an uplink knows of its central, as the outbox keeps it.
type peer struct {
	wire.Position          // the central's, of the last acknowledgement
	Sessions      []string `json:"sessions"` // of the senders that this uplink had, the newest last
}

// mostSessions is how many of its senders an uplink remembers.
const mostSessions = 64

func parsePeer(text []byte) (p peer, err error) {
	if len(text) > 0 {
		err = json.Unmarshal(text, &p)
	}
	return p, err
}

func (p peer) text() []byte {
	text, _ := json.Marshal(p) // texts and numbers can always be written
	return text
}

// begin adds the session of a new sender: what an earlier one sent is to be known as our own.
func (p *peer) begin(session string) {
	p.Sessions = append(p.Sessions, session)
	p.Sessions = p.Sessions[max(0, len(p.Sessions)-mostSessions):]
}

func (p *peer) knows(session string) bool { return slices.Contains(p.Sessions, session) }
