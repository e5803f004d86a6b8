package request

// Kind is a kind of request.
type Kind struct {
	Name string
	Says string // what is asked, for people
	// Again says that it may be carried out more than once: whatever comes of it is the same.
	Again bool
	// Changes says that it changes something at the gateway, so that its file has to allow it.
	Changes bool
}

// The kinds of requests.
const (
	Readings  = "readings"
	Read      = "read"
	Notes     = "notes"
	Reconcile = "reconcile"
)

// All is the table of kinds.
var All = []Kind{
	{Name: Readings, Says: "the readings of a time", Again: true},
	{Name: Read, Says: "a reading of a source now"},
	{Name: Reconcile, Says: "to compare what was sent, and to send again what differs", Again: true},
	{Name: Notes, Says: "to take notes over", Again: true, Changes: true},
}

// Of returns a kind.
func Of(name string) (Kind, bool) {
	for _, k := range All {
		if k.Name == name {
			return k, true
		}
	}
	return Kind{}, false
}

// Kinds returns the names of all kinds.
func Kinds() []string { return names(func(Kind) bool { return true }) }

// Harmless returns the names of those that change nothing.
func Harmless() []string { return names(func(k Kind) bool { return !k.Changes }) }

func names(which func(Kind) bool) (out []string) {
	for _, k := range All {
		if which(k) {
			out = append(out, k.Name)
		}
	}
	return out
}
