// Package reconcile proves that two stores hold the same summaries, sketches, definitions and records of a gateway, and
// mends where they do not. Both ends sum up their rows by series, tier and day; the gateway asks where these differ, from the
// whole to single rows. docs/replication.md has the calls.
package reconcile
