// Package sparkplug is the receiving side of Sparkplug B (Eclipse Sparkplug 3.0.0), the open
// standard for devices that say themselves, at their birth, what they measure. A host keeps
// what each edge node said, as later messages name their metrics by numbers only; it notices
// messages that are missing, and asks the node to be born again.
package sparkplug

//go:generate protoc --proto_path=wire --go_out=../../.. --go_opt=module=nexocumula payload.proto
