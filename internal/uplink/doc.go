// Package uplink replicates the summaries of a store to a central. The store marks what
// is to be sent; the sender reads what is marked, encodes it in batches that fit the link,
// and lets the marks go once the central has the batch on disk. A batch that is sent
// twice changes nothing at the central. docs/replication.md has the argument.
package uplink
