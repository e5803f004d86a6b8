// Package probe finds out what the registers of a device mean that nobody can say: it reads
// them a few times, reads them in every way there is, and puts the ways in the order of how
// likely they are. It looks gently for units and for registers that a device gives, and writes
// the lines of a configuration that read what was found.
package probe
