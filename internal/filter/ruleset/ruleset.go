// Package ruleset is what an appliance does with packets, as tables, chains and rules of a stateful
// packet filter: typed, so that it can be written as text for nft(8) ([Table.Text]) or given to a
// kernel over netlink (testbed/kernel/nfnetlink), and both are the same rules.
//
// [Of] makes the table of an appliance from its plan: the first rule that matches decides, replies
// to what was allowed pass, the rest is dropped, packets must come from where their source lives
// (RFC 3704, section 2.2), and fragments do not pass, as they hide their ports.
package ruleset

import (
	"net/netip"

	"openbastion/internal/model/lab"
)

// Family is the kind of packets that a table sees.
type Family string

// The families.
const (
	Inet   Family = "inet"   // IPv4 and IPv6, routed
	Bridge Family = "bridge" // frames that a bridge passes on
)

// Table is a whole ruleset of one machine.
type Table struct {
	Family Family
	Name   string
	About  []string // comment lines at its head
	Ports  []Port   // every adapter of the machine
	Chains []*Chain
}

// Port is an adapter, by the name that rules use, with its device on the machine.
type Port struct {
	Name   string // unique in the table
	Device string
	About  string
}

// Chain is a list of rules, in order. One with a hook sees packets by itself, others are jumped to.
type Chain struct {
	Name  string
	About string // a comment line before it, where there is one
	Hook  *Hook
	Rules []Rule
}

// Hook is where packets enter a chain.
type Hook struct {
	Type     string // filter or nat
	At       string // prerouting, input, forward, output or postrouting
	Priority int32  // lower ones come first
	Drop     bool   // what no rule decides is dropped, not accepted
}

// Rule does what its actions say with packets that fit all matches. One with neither is a comment.
type Rule struct {
	Title   string // which rule of the lab file it is of, where it is of one: rules of one title stand together
	Matches []Match
	Actions []Action
	Note    string // a remark on it
}

// Match is a condition on a packet: one of the match types of this package.
type Match interface{ match() }

// Action is what is done with a packet: one of the action types of this package.
type Action interface{ action() }

// Direction tells the source side of a packet from its destination side.
type Direction bool

// The directions.
const (
	Source      Direction = false
	Destination Direction = true
)

// The matches.
type (
	// In matches packets that came in at one of the ports, by their names.
	In []string
	// Out matches packets that leave by one of the ports.
	Out []string
	// Loopback matches what the machine sends to itself.
	Loopback struct{}
	// Address matches packets with an address in any of the prefixes, which are of one IP version;
	// with Not, in none of them.
	Address struct {
		Of       Direction
		Not      bool
		Prefixes []netip.Prefix
	}
	// IPv6 matches packets of that version.
	IPv6 struct{}
	// Proto matches packets of one of the protocols; lab.ICMP is that of both IP versions.
	Proto []lab.Proto
	// Ports matches a run of ports, both ends included; lab.Any stands for TCP and UDP alike.
	Ports struct {
		Proto    lab.Proto
		Of       Direction
		From, To uint16
	}
	// Message matches ICMP messages of one version by their types (RFC 792, RFC 4443); with Not,
	// messages of that version of any other type.
	Message struct {
		IPv6  bool
		Not   bool
		Types []string
	}
	// HopLimit matches IPv6 packets with just that many hops left.
	HopLimit uint8
	// State matches the state of the packet's connection.
	State []string
	// NotOpening matches TCP segments that do not open a connection (RFC 9293: SYN and neither ACK, RST nor FIN).
	NotOpening struct{}
	// Fragment matches fragments of an IPv4 packet.
	Fragment struct{}
	// Fragment6 matches IPv6 packets with a fragment header (RFC 8200, section 4.5).
	Fragment6 struct{}
	// Stray matches packets that came in where no route to their source leads out.
	Stray struct{}
	// RouteBack matches packets to whose source a route leads out by one of the ports.
	RouteBack []string
	// ToSelf matches packets to an address of the machine.
	ToSelf struct{}
	// Mark matches packets on which all of these bits are set.
	Mark uint32
	// EtherType matches frames by what they carry: ip or arp; with Not, frames that carry anything else.
	EtherType struct {
		Not  bool
		Name string
	}
	// TCPSYN matches TCP segments with the SYN flag.
	TCPSYN struct{}
)

// The actions.
type (
	// Counter counts.
	Counter struct{}
	// Log writes a line that begins with the text.
	Log string
	// Accept ends with the packet let through.
	Accept struct{}
	// Drop ends with the packet dropped, silently.
	Drop struct{}
	// Jump goes through another chain, and on here where that decides nothing.
	Jump string
	// Goto goes through another chain, and does not come back.
	Goto string
	// Reset ends with a TCP reset to the sender.
	Reset struct{}
	// Prohibited ends with an ICMP error to the sender: administratively prohibited.
	Prohibited struct{}
	// SetMark marks the packet with just these bits, AddMark with these as well.
	SetMark uint32
	AddMark uint32
	// Masquerade translates the source to the address of the port by which the packet leaves.
	Masquerade struct{}
	// SNAT translates the source.
	SNAT netip.Addr
	// DNAT translates the destination; the port stays where it is 0.
	DNAT netip.AddrPort
	// ClampMSS keeps TCP segments within the MTU of the route (RFC 4459, section 3.2).
	ClampMSS struct{}
)

func (In) match()         {}
func (Out) match()        {}
func (Loopback) match()   {}
func (Address) match()    {}
func (IPv6) match()       {}
func (Proto) match()      {}
func (Ports) match()      {}
func (Message) match()    {}
func (HopLimit) match()   {}
func (State) match()      {}
func (NotOpening) match() {}
func (Fragment) match()   {}
func (Fragment6) match()  {}
func (Stray) match()      {}
func (RouteBack) match()  {}
func (ToSelf) match()     {}
func (Mark) match()       {}
func (EtherType) match()  {}
func (TCPSYN) match()     {}

func (Counter) action()    {}
func (Log) action()        {}
func (Accept) action()     {}
func (Drop) action()       {}
func (Jump) action()       {}
func (Goto) action()       {}
func (Reset) action()      {}
func (Prohibited) action() {}
func (SetMark) action()    {}
func (AddMark) action()    {}
func (Masquerade) action() {}
func (SNAT) action()       {}
func (DNAT) action()       {}
func (ClampMSS) action()   {}
