// Package source holds the ways in: an MQTT listener of our own, a client of an
// existing MQTT broker, and a Modbus TCP poller. Each turns what arrives into
// deliveries for the pipeline and acknowledges it to its sender once it is on disk.
package source
