// Package demo runs the made-up world on one machine: a central, three gateways and
// their simulated field, with days of history, and a link between them that can be
// cut.
package demo
