// Package claims says what must hold in a lab and judges the evidence for it.
// The list of claims follows from the plan alone and is the same on every
// stage: the rehearsal, the kernel's namespaces, virtual machines, the field.
// A stage answers probes; what it could not observe is unknown, never holds.
package claims

import (
	"net/netip"

	"openbastion/core/lab"
	"openbastion/core/lease"
	"openbastion/core/mac"
	"openbastion/core/plan"
)

// Verdict is what became of a claim.
type Verdict string

// The verdicts.
const (
	Holds   Verdict = "holds"
	Broken  Verdict = "broken"
	Unknown Verdict = "unknown"
)

// Kind is the kind of a claim.
type Kind string

// The kinds.
const (
	Lease     Kind = "lease"
	Alone     Kind = "alone"
	Gateway   Kind = "gateway"
	Names     Kind = "names"
	Outside   Kind = "outside"
	Path      Kind = "path"
	Cut       Kind = "cut"
	Held      Kind = "held"
	Inbound   Kind = "inbound"
	Published Kind = "published"
	Between   Kind = "between"
	Expect    Kind = "expect"
)

// Kinds are all kinds.
var Kinds = []Kind{Lease, Alone, Gateway, Names, Outside, Path, Cut, Held, Inbound, Published, Between, Expect}

// Condition is the state of the lab in which a probe is made.
type Condition uint8

// The conditions.
const (
	Running   Condition = iota // everything is on
	Unplugged                  // every appliance's WAN is unplugged
)

// ProbeKind says what a probe asks.
type ProbeKind uint8

// The kinds of Probe.
const (
	AskAddress  ProbeKind = iota // which address does the adapter have?
	AskLease                     // which lease did the adapter get?
	AskServers                   // who answers a request for a lease there?
	AskNeighbor                  // which hardware address has the adapter's next hop?
	AskName                      // does the witness's name resolve, by the adapter's resolver?
	AskReach                     // does Proto reach To at Port?
	AskHop                       // which router is the first on the way to the witness?
	Escape                       // everything a hostile guest can try to get outside
	Scan                         // from outside: what answers at the WAN, and what passes it?
	AskRouters                   // who announces IPv6 on the adapter's segment?
	AskSix                       // which IPv6 address, router and resolvers has the adapter?
)

// Probe is one question to a stage.
type Probe struct {
	Kind  ProbeKind
	When  Condition
	From  *plan.Adapter // who asks; nil: the witness
	To    *plan.Adapter // who is asked; nil: the witness
	Proto lab.Proto
	Port  uint16
	Six   bool          // AskReach: over IPv6
	Scan  []lab.Service // for Scan
}

// Observation is a stage's answer to a probe.
type Observation struct {
	Unknown  string   // why the stage could not ask; empty when it could
	Answered bool     // there was an answer
	Saw      string   // what happened, in words
	Evidence []string // the frames or readings that show it

	Address  netip.Prefix   // AskAddress
	Lease    *lease.Binding // AskLease
	Offers   []lease.Offer  // AskServers
	MACs     []mac.Address  // AskNeighbor
	Addrs    []netip.Addr   // AskName: what the name resolved to
	From     netip.Addr     // AskReach: the source that the far end saw; AskHop: the router; AskName: the resolver
	Who      string         // AskReach: who answered, by its own word
	Attempts int            // Escape, Scan: how much was tried
	Open     []lab.Service  // Scan: what answered
	Escapes  []Way          // Escape, Scan: what got through
	Routers  []Router       // AskRouters
}

// Router is who announces itself as an IPv6 router on a segment.
type Router struct {
	Address netip.Addr // link-local
	MAC     mac.Address
	Prefix  netip.Prefix // invalid: none
}

// Way is one way around the appliance.
type Way struct {
	From   string        `json:"from"`
	To     string        `json:"to"`
	Path   []string      `json:"path"` // machines and segments, in order
	Packet string        `json:"packet"`
	Tried  string        `json:"tried"` // what the guest did
	Door   *plan.Adapter `json:"-"`     // the adapter that let it out, when known
}

// Witness is the outside host that reports what it saw.
type Witness struct {
	Name    string // full domain name
	Address netip.Addr
}

// Stage is where a lab runs: it answers probes. All probes of one call share a
// condition; answers are in their order.
type Stage interface {
	Name() string
	Witness() Witness
	Ask(when Condition, probes []Probe) []Observation
}

// Result is a claim with its verdict.
type Result struct {
	ID       string   `json:"id"`
	Subject  string   `json:"subject"`
	Kind     Kind     `json:"kind"`
	Verdict  Verdict  `json:"verdict"`
	Saw      string   `json:"saw"`
	Evidence []string `json:"evidence"`
	Escapes  []Way    `json:"escapes,omitempty"`
	Remedy   string   `json:"remedy,omitempty"`  // what to do next, when broken
	Follows  string   `json:"follows,omitempty"` // the broken claim that explains this one

	around bool // it went out, and not through the appliance
}

// Schema names the JSON form of a verdict.
const Schema = "openbastion.verdict/1"

// Document is a verdict as JSON, schema openbastion.verdict/1.
type Document struct {
	Schema  string   `json:"schema"`
	Lab     string   `json:"lab"`
	Stage   string   `json:"stage"`
	Verdict Verdict  `json:"verdict"`
	Claims  []Result `json:"claims"`
}

// claim is a claim with the probes that decide it.
type claim struct {
	Result
	probes []Probe
	judge  func(r *Result, obs []Observation)
}

// Count gives how many claims have each verdict.
func (d Document) Count() map[Verdict]int {
	n := map[Verdict]int{}
	for _, r := range d.Claims {
		n[r.Verdict]++
	}
	return n
}

// GuestKinds are the claims about guests, in the order in which a matrix shows
// them.
var GuestKinds = []Kind{Lease, Gateway, Names, Outside, Path, Held, Cut}

// Run asks the stage about every claim of the plan and judges the answers.
func Run(p *plan.Plan, s Stage) Document {
	list := list(p, s.Witness())
	doc := Document{Schema: Schema, Lab: p.Name, Stage: s.Name(), Verdict: Holds, Claims: []Result{}}
	answers := make([][]Observation, len(list))
	for _, when := range []Condition{Running, Unplugged} {
		type slot struct{ claim, probe int }
		var probes []Probe
		var slots []slot
		for i := range list {
			if answers[i] == nil {
				answers[i] = make([]Observation, len(list[i].probes))
			}
			for j, q := range list[i].probes {
				if q.When == when {
					probes, slots = append(probes, q), append(slots, slot{i, j})
				}
			}
		}
		if len(probes) == 0 {
			continue
		}
		for k, o := range s.Ask(when, probes) {
			answers[slots[k].claim][slots[k].probe] = o
		}
	}
	for i := range list {
		c := &list[i]
		decide(c, answers[i])
		if c.Verdict == Broken || c.Verdict == Unknown && doc.Verdict == Holds {
			doc.Verdict = c.Verdict
		}
		doc.Claims = append(doc.Claims, c.Result)
	}
	if len(list) == 0 {
		doc.Verdict = Unknown // no verdict without evidence
	}
	trace(list, doc.Claims)
	return doc
}

// trace finds, for each broken claim, the broken claim that explains it: a
// guest without its planned lease has no next hop, no names and no way out; one
// with a second door goes out by that.
func trace(list []claim, results []Result) {
	isBroken := map[string]bool{}
	for _, r := range results {
		isBroken[r.ID] = r.Verdict == Broken
	}
	first := func(ids ...string) string {
		for _, id := range ids {
			if isBroken[id] {
				return id
			}
		}
		return ""
	}
	for i := range results {
		r := &results[i]
		if r.Verdict != Broken {
			continue
		}
		var guests []string // whose claims may explain it
		for _, q := range list[i].probes {
			if q.From != nil && q.From.Machine.Guest != nil {
				guests = append(guests, q.From.Machine.Name)
			}
			if q.To != nil && q.To.Machine.Guest != nil {
				guests = append(guests, q.To.Machine.Name)
			}
		}
		if len(guests) == 0 {
			guests = []string{r.Subject}
		}
		for _, g := range guests {
			switch r.Kind {
			case Gateway, Names:
				r.Follows = first(g + ".lease")
			case Outside, Path:
				if r.around {
					r.Follows = first(g+".cut", g+".held")
				} else {
					r.Follows = first(g+".lease", g+".gateway")
				}
			case Between, Expect, Published:
				r.Follows = first(g+".held", g+".lease", g+".gateway")
			}
			if r.Follows != "" {
				break
			}
		}
		if r.Kind == Lease && list[i].probes[0].From.Segment != nil {
			r.Follows = first(list[i].probes[0].From.Segment.Name + ".alone")
		}
	}
}

func decide(c *claim, obs []Observation) {
	r := &c.Result
	r.Evidence = []string{}
	for _, o := range obs {
		r.Evidence = append(r.Evidence, o.Evidence...)
		if o.Unknown != "" {
			r.Verdict, r.Saw = Unknown, o.Unknown
		}
	}
	if r.Verdict == Unknown {
		return
	}
	r.Verdict = Holds
	c.judge(r, obs)
	if r.Verdict == Holds && len(r.Evidence) == 0 {
		r.Verdict, r.Saw = Unknown, "nothing was observed that shows it"
	}
}

func (r *Result) broken(saw, try string) {
	if r.Verdict == Broken { // the first reason is kept
		return
	}
	r.Verdict, r.Saw, r.Remedy = Broken, saw, try
}
