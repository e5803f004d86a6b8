// Package decode turns what arrives from the field, payload bytes and register
// words, into raw values. It knows nothing of connections.
package decode
