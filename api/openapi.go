// Package api holds the description of the HTTP interface.
package api

import _ "embed"

// OpenAPI is openapi.yaml.
//
//go:embed openapi.yaml
var OpenAPI []byte

// BoardSchema is board.schema.json, which says what a board of the console is like.
//
//go:embed board.schema.json
var BoardSchema []byte
