// Package pipeline takes readings from sources to disk: screen, commit, acknowledge,
// roll up. One goroutine commits; whatever arrives while a commit runs goes into the
// next, so that many senders share one sync to disk.
package pipeline
