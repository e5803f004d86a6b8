// Package reading holds what a station reported: one value of one series at one
// time, and what is left of it when it could not be accepted.
package reading
