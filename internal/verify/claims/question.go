package claims

import (
	"encoding/json"
	"fmt"
	"net/netip"

	"openbastion/internal/model/lab"
	"openbastion/internal/verify/reachability"
)

// Condition is the state of the lab in which a question is asked.
type Condition string

// The conditions, in the order in which they are set.
const (
	Running   Condition = "running"   // everything is on
	Unplugged Condition = "unplugged" // every appliance's WAN is unplugged
)

// Conditions are all conditions, in the order in which a run sets them.
var Conditions = []Condition{Running, Unplugged}

// Leg is a packet passed on: by a guest's adapter to a station of its segment.
type Leg struct {
	By  Ref    `json:"by"`
	Hop string `json:"hop"`
	On  string `json:"on"`
}

// Question is one thing to ask of a stage. It travels as JSON.
type Question struct {
	ID   string // unique in a run
	When Condition
	Ask  Asking
}

// Asking is what a question asks: one of the Ask types of this package, each
// of which has its own type of answer.
type Asking interface{ kind() AskKind }

// AskKind names a type of Asking.
type AskKind string

// The types of Asking, each with what it asks.
type (
	// AskAddress: which address does the adapter have? [GotAddress]
	AskAddress struct {
		At Ref `json:"adapter"`
	}
	// AskLease: which lease did the adapter get? [GotLease]
	AskLease struct {
		At Ref `json:"adapter"`
	}
	// AskServers: who answers a request for a lease on the adapter's segment? [GotServers]
	AskServers struct {
		At Ref `json:"adapter"`
	}
	// AskRouters: who announces IPv6 on the adapter's segment? [GotRouters]
	AskRouters struct {
		At Ref `json:"adapter"`
	}
	// AskIPv6: which IPv6 address, router and resolvers has the adapter? [GotIPv6]
	AskIPv6 struct {
		At Ref `json:"adapter"`
	}
	// AskNeighbor: which hardware address has the adapter's next hop? [GotNeighbor]
	AskNeighbor struct {
		At Ref `json:"adapter"`
	}
	// AskName: does the witness's name resolve, by the adapter's resolver? [GotName]
	AskName struct {
		At Ref `json:"adapter"`
	}
	// AskHop: which router is the first on the way to the witness? [GotHop]
	AskHop struct {
		At Ref `json:"adapter"`
	}
	// AskReach: does the service reach one adapter from another, and with packets of which size? [GotReach]
	AskReach struct {
		From    Ref         `json:"from"`
		To      Ref         `json:"to"`
		Service lab.Service `json:"service"`
		IPv6    bool        `json:"ipv6,omitempty"`
		Address netip.Addr  `json:"address,omitzero"` // where it goes instead of to the adapter's own address
		Source  netip.Addr  `json:"source,omitzero"`  // from outside: by which address there instead of the test server's
		Size    int         `json:"size,omitempty"`   // of the packets there and back, with IP header, in bytes; 0: small
	}
	// AskAttack: what of all that a hostile guest can try gets outside? [GotAttack]
	AskAttack struct {
		By string `json:"by"` // a guest
	}
	// AskPacket: who takes in one packet, handed to a station of the sender's
	// segment? [GotPacket]
	AskPacket struct {
		From    Ref                 `json:"from"`              // zero: somebody outside
		Segment string              `json:"segment,omitempty"` // of somebody outside
		Hop     string              `json:"hop"`               // a machine; another name is who leads outside there
		On      string              `json:"on"`                // the segment on which the hop stands
		Packet  reachability.Packet `json:"packet"`
		To      Ref                 `json:"to,omitzero"`    // whose address it goes to, where only a lease tells
		Then    []Leg               `json:"then,omitempty"` // what guests do with it who pass it on
	}
	// AskOwners: who answers for addresses on the adapter's segment? [GotOwners]
	AskOwners struct {
		At        Ref          `json:"adapter"`
		Addresses []netip.Addr `json:"addresses"`
	}
	// AskScan: from outside, what answers at a WAN, and what passes it? [GotScan]
	AskScan struct {
		To       Ref           `json:"to"`
		Services []lab.Service `json:"services"`
	}
)

func (AskAddress) kind() AskKind  { return "address" }
func (AskLease) kind() AskKind    { return "lease" }
func (AskServers) kind() AskKind  { return "servers" }
func (AskRouters) kind() AskKind  { return "routers" }
func (AskIPv6) kind() AskKind     { return "ipv6" }
func (AskNeighbor) kind() AskKind { return "neighbor" }
func (AskName) kind() AskKind     { return "name" }
func (AskHop) kind() AskKind      { return "hop" }
func (AskReach) kind() AskKind    { return "reach" }
func (AskAttack) kind() AskKind   { return "attack" }
func (AskScan) kind() AskKind     { return "scan" }
func (AskPacket) kind() AskKind   { return "packet" }
func (AskOwners) kind() AskKind   { return "owners" }

// askings and gots make the values of each kind, to read them into.
var (
	askings = map[AskKind]func() any{
		"address": func() any { return &AskAddress{} }, "lease": func() any { return &AskLease{} },
		"servers": func() any { return &AskServers{} },
		"routers": func() any { return &AskRouters{} }, "ipv6": func() any { return &AskIPv6{} },
		"neighbor": func() any { return &AskNeighbor{} },
		"name":     func() any { return &AskName{} }, "hop": func() any { return &AskHop{} }, "reach": func() any { return &AskReach{} },
		"attack": func() any { return &AskAttack{} }, "scan": func() any { return &AskScan{} },
		"packet": func() any { return &AskPacket{} }, "owners": func() any { return &AskOwners{} },
	}
	gots = map[AskKind]func() any{
		"address": func() any { return &GotAddress{} }, "lease": func() any { return &GotLease{} },
		"servers": func() any { return &GotServers{} },
		"routers": func() any { return &GotRouters{} }, "ipv6": func() any { return &GotIPv6{} },
		"neighbor": func() any { return &GotNeighbor{} },
		"name":     func() any { return &GotName{} }, "hop": func() any { return &GotHop{} }, "reach": func() any { return &GotReach{} },
		"attack": func() any { return &GotAttack{} }, "scan": func() any { return &GotScan{} },
		"packet": func() any { return &GotPacket{} }, "owners": func() any { return &GotOwners{} },
	}
)

// KindOf returns the kind of what a question asks.
func (q Question) KindOf() AskKind { return q.Ask.kind() }

type questionJSON struct {
	ID   string          `json:"id"`
	When Condition       `json:"when"`
	Kind AskKind         `json:"kind"`
	Ask  json.RawMessage `json:"ask"`
}

// MarshalJSON writes the question with the name of its kind.
func (q Question) MarshalJSON() ([]byte, error) {
	ask, err := json.Marshal(q.Ask)
	if err != nil {
		return nil, err
	}
	return json.Marshal(questionJSON{q.ID, q.When, q.Ask.kind(), ask})
}

// UnmarshalJSON reads what MarshalJSON wrote. A kind that is not known is an
// error.
func (q *Question) UnmarshalJSON(data []byte) error {
	var j questionJSON
	if err := json.Unmarshal(data, &j); err != nil {
		return err
	}
	v, err := readKind(askings, j.Kind, j.Ask)
	if err != nil {
		return err
	}
	q.ID, q.When, q.Ask = j.ID, j.When, v.(Asking)
	return nil
}

// readKind reads a value of a kind and gives it by value.
func readKind(makers map[AskKind]func() any, kind AskKind, data []byte) (any, error) {
	maker, ok := makers[kind]
	if !ok {
		return nil, fmt.Errorf("no kind of question %q", kind)
	}
	v := maker()
	if err := json.Unmarshal(data, v); err != nil {
		return nil, fmt.Errorf("%s: %w", kind, err)
	}
	return deref(v), nil
}
