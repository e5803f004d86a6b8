// Package fieldwork is what a person does at a site before anything is collected: see what a broker
// carries, find out what registers hold, write the lines of a configuration, reckon what they
// cost, and try them. The HTTP interface and the command line do it through the same calls.
package fieldwork
