// Package removal takes out of a store what a person removed, and keeps it out: whatever arrives of it later, in late
// batches or from restored copies, is left out.
package removal
