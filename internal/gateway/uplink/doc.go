// Package uplink replicates summaries to a central. Summaries become parcels in the
// store's outbox, in the same transaction that stores them; the sender posts parcels
// in order of their sequence numbers and drops them once the central has them on
// disk. A parcel that is sent twice changes nothing at the central.
package uplink
