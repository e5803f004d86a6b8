// Package client is the Go client of a nexocumula service's HTTP interface, which
// api/openapi.yaml describes. A gateway and a central answer the same calls.
package client
