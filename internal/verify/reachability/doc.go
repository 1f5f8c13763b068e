// Package prove tells of a plan which packets get where, for all packets: not
// for those that came to mind. Sets of packets are carried through the lab from
// each place; where one gets to a place at which it must not arrive, there is
// one concrete packet and the way that it takes.
//
// The worst is taken of guests: they are hostile and work together. On its
// segments a guest sends any packet with any source to any station, and one with
// two adapters passes on what it is given. Of appliances it is taken that they
// do what their file says: the first rule that matches decides, answers to what
// was let through pass, a source must live where it comes in (RFC 3704, section
// 2.2), and what is published or translated is rewritten before the rules look
// at its destination and after they looked at its source.
//
// [Assumptions] lists what is not looked at.
package reachability

// Assumptions are what a proof takes for granted, each in a sentence.
var Assumptions = []string{
	"The appliance enforces its rules, and its own software has no vulnerability.",
	"Switches keep segments and tags apart; on one segment every machine reaches every other.",
	"A guest that may reach outside can relay for another one: no rule on addresses prevents that.",
	"Names that a DNS server looks up outside can carry words out and back.",
	"A guest on a segment without an appliance is limited by the guest in between, which forwards packets only where the file says so, or where it is outside itself.",
}
