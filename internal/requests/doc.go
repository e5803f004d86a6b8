// Package requests keeps what centrals ask of gateways: it hands requests out in the answers to a gateway's envelopes,
// carries them out at the gateway, passes them on between, and takes what came of them. docs/replication.md says how
// they travel, internal/core/request which there are.
package requests
