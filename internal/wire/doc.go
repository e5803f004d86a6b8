// Package wire is the format in which a gateway replicates summaries to a central,
// CBOR (RFC 8949) with typed arrays (RFC 8746), compressed with zstd (RFC 8878).
// docs/replication.md describes it for whoever writes another end.
package wire
