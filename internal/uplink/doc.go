// Package uplink sends what a store holds to another place. What waits stands in an outbox; how it
// is carried there is a matter of the kind of uplink, each in a package of its own. A sender is the
// same for all kinds: it gathers what waits, has it carried, and lets go of what has arrived.
package uplink
