// Package repair looks through the store of a running service bit by bit, and makes damaged rows again from what is
// left: summaries from readings or narrower summaries, or from the gateway that sent them. What cannot be made again
// becomes a gap.
package repair
