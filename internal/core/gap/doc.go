// Package gap finds the holes in a series, and says what most likely made them.
package gap
