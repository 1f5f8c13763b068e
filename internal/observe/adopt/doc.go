// Package adopt turns what exists already, as exports of machines and pastes of what
// they show tell it, into a lab file. What nobody showed is left open there, not
// guessed: the file says `later`, and verdicts that depend on it are unknown.
package adopt
