// Package access knows who may do what: accounts with their sessions and second factors,
// tokens of scripts and senders, gateways that were enrolled, and the audit of what was done
// and refused. It keeps its records in a file of its own beside the store, so that a copy of
// the readings holds no account, and restoring one brings no revoked token back.
//
// Nothing that lets somebody in stands in that file as it is: passwords are hashed with
// argon2id; tokens, sessions, codes and credentials are random and kept as their SHA-256;
// secrets of authenticators are encrypted with a key from another file.
package access
