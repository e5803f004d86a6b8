// Package api is the HTTP interface of a service: routes, the live stream and the
// console's files. It reads requests, asks the packages that know, and writes
// answers in the forms of package client, as api/openapi.yaml has them.
package api
