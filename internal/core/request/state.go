package request

// State is how far a request has come.
type State string

// The states of a request. The last three are final.
const (
	Waiting   State = "waiting"   // for its gateway to speak up
	Delivered State = "delivered" // the gateway has it
	Done      State = "done"
	Refused   State = "refused" // it was not carried out, or nobody knows whether it was
	Expired   State = "expired" // its time was over before it was done
)

// States are all states.
var States = []State{Waiting, Delivered, Done, Refused, Expired}

// Final reports whether nothing follows.
func (s State) Final() bool { return s == Done || s == Refused || s == Expired }

// Follows reports whether a state may come after another. A request that expired may still be answered: what was done
// counts more than that it came late.
func (s State) Follows(before State) bool {
	switch before {
	case Waiting:
		return s != Waiting
	case Delivered:
		return s.Final()
	case Expired:
		return s == Done || s == Refused
	}
	return false
}
