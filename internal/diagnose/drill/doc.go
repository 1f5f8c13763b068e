// Package drill plants a mistake in a lab and answers what a person at its bench asks:
// pings, listings, consoles, as the machines there would show them. What is planted comes
// from a seed alone.
package drill
