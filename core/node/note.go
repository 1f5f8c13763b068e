package node

import "fmt"

// Note is what a node says of a packet that it decides about, for those who
// follow one.
type Note struct {
	Kind NoteKind
	Text string
	Line int // of the lab file, where what decides is written; 0 when nothing there does
}

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
		n.Noted(Note{kind, fmt.Sprintf(format, args...), line})
	}
}
