// Package planner makes the cheapest requests for the registers that are wanted of one
// table of a device, from what is known of that device: how long a read may be, and which
// reads it refuses. Refusals are facts that need no explanation: a read that covers a
// refused one is refused too, be it for its length or for an address in it. Explanations
// are drawn only where there is no other.
package planner
