package claims

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"time"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/dns"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/verify/reachability"
)

// Answer is what a stage says to a question: what it got, or why it is
// missing, and what shows it. It travels as JSON.
type Answer struct {
	ID       string // the question's
	Missing  string // why there is no answer; empty when there is one
	Got      Got    // nil when it is missing
	Evidence []Evidence
}

// Evidence is what shows that an answer is true: a frame of a capture, or a
// reading of a machine.
type Evidence struct {
	Capture string    `json:"capture,omitempty"` // the file; empty: the one of the run
	Frame   int       `json:"frame,omitempty"`   // its number in the capture, from 1
	Last    int       `json:"last,omitempty"`    // of a run of frames that begins with Frame
	At      time.Time `json:"time,omitzero"`     // when it was seen
	Reading string    `json:"reading,omitempty"` // what was read, where it is no frame
	Text    string    `json:"text"`
}

// String returns the evidence in a line.
func (e Evidence) String() string {
	switch {
	case e.Last > e.Frame:
		return fmt.Sprintf("frames %d to %d: %s", e.Frame, e.Last, e.Text)
	case e.Frame != 0:
		return fmt.Sprintf("frame %d: %s", e.Frame, e.Text)
	}
	return e.Text
}

// Got is an answer's content: one of the Got types of this package.
type Got interface{ kind() AskKind }

// The types of Got, each the answer to the Ask type of its name.
type (
	// GotAddress is the adapter's address; invalid when it has none.
	GotAddress struct {
		Address netip.Prefix `json:"address"`
	}
	// GotLease is the lease that the adapter holds, or nil.
	GotLease struct {
		Lease *dhcp.Binding `json:"lease"`
	}
	// GotServers is every offer that came.
	GotServers struct {
		Offers []dhcp.Offer `json:"offers"`
	}
	// GotRouters is who announces itself.
	GotRouters struct {
		Routers []Router `json:"routers"`
	}
	// GotIPv6 is what the adapter came by.
	GotIPv6 struct {
		Address   netip.Prefix `json:"address"`
		Router    netip.Addr   `json:"router"`
		Resolvers []netip.Addr `json:"resolvers"`
	}
	// GotNeighbor is which hardware addresses answered for the next hop, or why
	// there is no next hop.
	GotNeighbor struct {
		Hop      netip.Addr      `json:"hop"`
		Hardware []mac.Address   `json:"hardware"`
		Outcome  outcome.Outcome `json:"outcome,omitzero"`
	}
	// GotName is what the DNS server returned, or why it returned nothing.
	GotName struct {
		Answered  bool            `json:"answered"`
		Resolver  netip.Addr      `json:"resolver"`
		Addresses []netip.Addr    `json:"addresses"`
		Code      string          `json:"code,omitempty"`  // of the reply, such as RCodeServerFailure
		Tries     int             `json:"tries,omitempty"` // how often it was asked; 0: nobody tells
		Outcome   outcome.Outcome `json:"outcome,omitzero"`
	}
	// GotHop is the router that said it was the first; invalid when none did.
	GotHop struct {
		Router  netip.Addr      `json:"router"`
		Outcome outcome.Outcome `json:"outcome,omitzero"`
	}
	// GotReach is whether an answer came, who gave it by its own word, and which
	// source it saw. Where a size was asked for and a router reported less, it was tried with that.
	GotReach struct {
		Answered bool            `json:"answered"`
		Who      string          `json:"who,omitempty"`
		Source   netip.Addr      `json:"source"`
		Unseen   bool            `json:"unseen,omitempty"`  // nobody tells which source it had
		Carries  int             `json:"carries,omitempty"` // the size that passed, in bytes, where one was asked for; 0: TCP chooses it
		Outcome  outcome.Outcome `json:"outcome,omitzero"`
	}
	// GotAttack is how much was tried and what got outside.
	GotAttack struct {
		Attempts int   `json:"attempts"`
		Ways     []Way `json:"ways"`
	}
	// GotPacket is who took the packet in, the way that it went, and why it could
	// not be sent.
	GotPacket struct {
		Took []string `json:"took"`
		Path []string `json:"path"`
	}
	// GotOwners is which hardware addresses answered, by the address that was asked
	// for.
	GotOwners struct {
		Owners [][]mac.Address `json:"owners"`
	}
	// GotScan is how much was tried, what answered, and what passed.
	GotScan struct {
		Attempts int           `json:"attempts"`
		Open     []lab.Service `json:"open"`
		Ways     []Way         `json:"ways"`
	}
)

// Text returns what the DNS server returned, or why it returned nothing.
func (g GotName) Text() string {
	if g.Answered {
		return dns.CodeText(g.Code)
	}
	return g.Outcome.String()
}

func (GotAddress) kind() AskKind  { return "address" }
func (GotLease) kind() AskKind    { return "lease" }
func (GotServers) kind() AskKind  { return "servers" }
func (GotRouters) kind() AskKind  { return "routers" }
func (GotIPv6) kind() AskKind     { return "ipv6" }
func (GotNeighbor) kind() AskKind { return "neighbor" }
func (GotName) kind() AskKind     { return "name" }
func (GotHop) kind() AskKind      { return "hop" }
func (GotReach) kind() AskKind    { return "reach" }
func (GotAttack) kind() AskKind   { return "attack" }
func (GotScan) kind() AskKind     { return "scan" }
func (GotPacket) kind() AskKind   { return "packet" }
func (GotOwners) kind() AskKind   { return "owners" }

// Telling returns the one of an adapter's addresses that tells most: one that does not belong
// where it was planned, when there is any. Of two who announce, which comes first is
// luck, and an adapter has addresses of both.
func Telling(addresses []netip.Prefix, planned netip.Prefix) netip.Prefix {
	for _, a := range addresses {
		if planned.IsValid() && !planned.Contains(a.Addr()) {
			return a
		}
	}
	if len(addresses) == 0 {
		return netip.Prefix{}
	}
	return addresses[0]
}

// TakenBy reports whether somebody, by name, took the packet in.
func (g GotPacket) TakenBy(name string) bool { return slices.Contains(g.Took, name) }

// Router is who announces itself as an IPv6 router on a segment.
type Router struct {
	Address netip.Addr   `json:"address"` // link-local
	MAC     mac.Address  `json:"mac"`
	Prefix  netip.Prefix `json:"prefix"` // invalid: none
}

// Way is one way around the appliance.
type Way struct {
	From   string   `json:"from"`
	To     string   `json:"to"`
	Path   []string `json:"path"` // machines and segments, in order
	Packet Evidence `json:"packet"`
	Tried  string   `json:"tried"` // what was done
	Door   Ref      `json:"door"`  // the adapter that let it out; zero when it is not known
	// Sent is the packet of a way to get inside, as it was sent.
	Sent *reachability.Packet `json:"sent,omitempty"`
}

type answerJSON struct {
	ID       string          `json:"id"`
	Missing  string          `json:"missing,omitempty"`
	Kind     AskKind         `json:"kind,omitempty"`
	Got      json.RawMessage `json:"got,omitempty"`
	Evidence []Evidence      `json:"evidence"`
}

// MarshalJSON writes the answer with the name of its kind.
func (a Answer) MarshalJSON() ([]byte, error) {
	j := answerJSON{ID: a.ID, Missing: a.Missing, Evidence: a.Evidence}
	if j.Evidence == nil {
		j.Evidence = []Evidence{}
	}
	if a.Got != nil {
		j.Kind = a.Got.kind()
		var err error
		if j.Got, err = json.Marshal(a.Got); err != nil {
			return nil, err
		}
	}
	return json.Marshal(j)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (a *Answer) UnmarshalJSON(data []byte) error {
	var j answerJSON
	if err := json.Unmarshal(data, &j); err != nil {
		return err
	}
	a.ID, a.Missing, a.Evidence, a.Got = j.ID, j.Missing, j.Evidence, nil
	if j.Kind == "" {
		if a.Missing == "" {
			a.Missing = "nothing was answered"
		}
		return nil
	}
	v, err := readKind(gots, j.Kind, j.Got)
	if err != nil {
		return err
	}
	a.Got = v.(Got)
	return nil
}

// deref returns what a pointer points to.
func deref(v any) any { return reflect.ValueOf(v).Elem().Interface() }

// AnswersSchema names the JSON form of saved answers.
const AnswersSchema = "openbastion.answers/1"

// Answers is what a stage answered, to be judged later and with others.
type Answers struct {
	Schema  string   `json:"schema"`
	Lab     string   `json:"lab"`
	Facts   Facts    `json:"facts"`
	Answers []Answer `json:"answers"`
}
