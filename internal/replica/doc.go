// Package replica is the table of what is replicated from store to store: for each kind of rows and of
// records, how it is read to be sent, how it is taken in, and which of two versions counts.
package replica
