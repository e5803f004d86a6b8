// Package shape reads a YAML file into structs that say what belongs there, and checks it.
// Whoever needs a part of the file owns its struct: the file as a whole is put together
// from them. Reading goes on after a mistake, so that one run names them all, each with
// its line.
package shape
