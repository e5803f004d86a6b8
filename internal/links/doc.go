// Package links keeps the history of a service's links: when each was down, why, how much
// waited meanwhile, and when the last of it arrived.
package links
