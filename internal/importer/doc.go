// Package importer brings files of history to a gateway: each record becomes readings,
// which go the ordinary way of what senders push, some at a time, so that what is collected
// meanwhile does not wait. How far it came is kept, so that it goes on after a kill.
package importer
