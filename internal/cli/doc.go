// Package cli is the command line: one file per command. Commands that ask talk to
// a service through package client, and only so.
package cli
