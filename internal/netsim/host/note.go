package host

import (
	"fmt"
	"net/netip"
)

// Note is what a node says of a packet that it decides about, for those who
// follow one.
type Note struct {
	Kind NoteKind
	Text string
	Line int // of the lab file, where what decides is written; 0 when nothing there does
	Why  Why
	Hop  netip.Addr // that did not answer, or that no route leads to
}

// Why is the reason for a packet's end, for who must tell reasons apart.
type Why uint8

// The reasons that are told apart.
const (
	Otherwise  Why = iota
	ByRules        // a rule decided, or that there is none
	Unanswered     // nobody answers for the next hop
	NoRoute        // no route leads to the destination
)

// NoteKind is what a Note is about.
type NoteKind string

// The kinds of Note.
const (
	Routed     NoteKind = "route"
	Ruled      NoteKind = "rule"
	Translated NoteKind = "translation"
	Known      NoteKind = "conversation" // a packet of one that was let through before
	Lost       NoteKind = "lost"         // here it ends
)

// Say tells whoever follows packets through the node; cheap when nobody does.
func (n *Node) Say(kind NoteKind, line int, format string, args ...any) {
	if n.Noted != nil {
		n.Noted(Note{Kind: kind, Text: fmt.Sprintf(format, args...), Line: line})
	}
}

// Tell is Say with a reason, and the address that it is about.
func (n *Node) Tell(note Note, format string, args ...any) {
	if n.Noted != nil {
		note.Text = fmt.Sprintf(format, args...)
		n.Noted(note)
	}
}
