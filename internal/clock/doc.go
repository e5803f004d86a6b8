// Package clock is the time of day as the service is given it, so that tests can set it,
// and the judgement whether it can be believed. Boards without a battery start in 1970,
// and a wrong time server can throw a clock decades ahead; neither may make a gateway
// refuse readings for good or delete what it was told to keep.
package clock
