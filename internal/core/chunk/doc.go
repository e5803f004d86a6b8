// Package chunk encodes a run of rows of one series into bytes and back.
package chunk
