// Package lab reads lab files: the one plain text file, YAML 1.2, that says
// what a lab consists of. Reading keeps line and column of everything, reports
// every fault of a file in one go, and never guesses: a key that is not known
// is a fault that names the nearest known one.
//
// The package is pure: bytes in, a [Lab] or [Faults] out.
package lab
