// Package api holds the description of the HTTP interface.
package api

import _ "embed"

// OpenAPI is openapi.yaml.
//
//go:embed openapi.yaml
var OpenAPI []byte
