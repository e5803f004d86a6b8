// Package central is the service at the centre: it receives summaries from gateways
// and keeps them.
package central
