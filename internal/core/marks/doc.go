// Package marks remembers what still has to be sent: spans of time of a series' tier.
// It knows nothing of what is in them; that is read when it is sent.
package marks
