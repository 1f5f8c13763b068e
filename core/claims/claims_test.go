package claims

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/core/lab"
	"openbastion/core/lease"
	"openbastion/core/mac"
	"openbastion/core/plan"
)

// fake is a stage that sees what a sound lab would show, unless change says
// otherwise.
type fake struct {
	change func(Probe, *Observation)
}

var witness = Witness{Name: "buoy.example", Address: netip.MustParseAddr("203.0.113.80")}

func (fake) Name() string     { return "fake" }
func (fake) Witness() Witness { return witness }

func (f fake) Ask(when Condition, probes []Probe) []Observation {
	out := make([]Observation, len(probes))
	for i, q := range probes {
		o := Observation{Answered: true, Attempts: 9, Evidence: []string{"seen"}}
		if q.From != nil && q.From.Segment.Port != nil {
			port := q.From.Segment.Port
			s := port.Leases
			o.Offers = []lease.Offer{{Server: s.Router, ServerMAC: port.MAC}}
			o.Lease = &lease.Binding{Address: netip.PrefixFrom(s.Pool.From, 24), Router: s.Router, DNS: s.DNS, ServerMAC: port.MAC, Server: s.Router}
			o.From, o.MACs, o.Addrs = s.Router, []mac.Address{port.MAC}, []netip.Addr{witness.Address}
		}
		switch q.Kind {
		case AskAddress:
			o.Address = netip.MustParsePrefix("172.29.64.7/24")
		case AskReach:
			o.From = netip.MustParseAddr("172.29.64.7")
		}
		if f.change != nil {
			f.change(q, &o)
		}
		out[i] = o
	}
	return out
}

func sample(t *testing.T) *plan.Plan {
	l, err := lab.Read("lab.yaml", []byte(`bastion: 1
lab: saltmarsh
segments:
  causeway: {reach: upstream}
  reedbed: {reach: isolated}
appliances:
  sluice:
    ports: [{role: wan, segment: causeway}, {role: lan, segment: reedbed}]
guests: {heron: reedbed}
`))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p
}

// Each case changes what the stage saw of one probe, and names the claim that
// must not hold and why.
func TestJudgements(t *testing.T) {
	stranger := mac.Address{2, 9, 9, 9, 9, 9}
	foreign := netip.MustParseAddr("192.0.2.9")
	for _, c := range []struct {
		what    string
		kind    ProbeKind
		change  func(*Observation)
		id      string
		verdict Verdict
		saw     string
	}{
		{"no lease", AskLease, func(o *Observation) { o.Lease = nil }, "heron.lease", Broken, "nobody gave heron a lease"},
		{"out of the pool", AskLease, func(o *Observation) { o.Lease.Address = netip.PrefixFrom(foreign, 24) }, "heron.lease", Broken, "outside the pool"},
		{"wrong mask", AskLease, func(o *Observation) { o.Lease.Address = netip.PrefixFrom(o.Lease.Address.Addr(), 16) }, "heron.lease", Broken, "the mask /16"},
		{"wrong router", AskLease, func(o *Observation) { o.Lease.Router = foreign }, "heron.lease", Broken, "the router 192.0.2.9"},
		{"wrong resolver", AskLease, func(o *Observation) { o.Lease.DNS = []netip.Addr{foreign} }, "heron.lease", Broken, "told resolver 192.0.2.9"},
		{"another server", AskLease, func(o *Observation) { o.Lease.ServerMAC = stranger }, "heron.lease", Broken, "that is not port lan of sluice"},
		{"a second server", AskServers, func(o *Observation) {
			o.Offers = append(o.Offers, lease.Offer{Server: foreign, ServerMAC: stranger, Address: foreign})
		}, "reedbed.alone", Broken, "192.0.2.9 at 02:09:09:09:09:09 offers"},
		{"no server", AskServers, func(o *Observation) { o.Offers = nil }, "reedbed.alone", Broken, "nobody answers"},
		{"silent gateway", AskNeighbor, func(o *Observation) { o.MACs = nil }, "heron.gateway", Broken, "does not answer"},
		{"two gateways", AskNeighbor, func(o *Observation) { o.MACs = append(o.MACs, stranger) }, "heron.gateway", Broken, "two machines answer"},
		{"wrong gateway", AskNeighbor, func(o *Observation) { o.MACs = []mac.Address{stranger} }, "heron.gateway", Broken, "is 02:09:09:09:09:09, and port lan"},
		{"wrong name", AskName, func(o *Observation) { o.Addrs = []netip.Addr{foreign} }, "heron.names", Broken, "address 192.0.2.9, and it is at 203.0.113.80"},
		{"no way out", AskReach, func(o *Observation) { o.Answered = false }, "heron.outside", Broken, "does not reach the witness by icmp"},
		{"around", AskReach, func(o *Observation) { o.From = foreign }, "heron.outside", Broken, "from 192.0.2.9, not from sluice's WAN address 172.29.64.7"},
		{"another first hop", AskHop, func(o *Observation) { o.From = foreign }, "heron.path", Broken, "the first hop is 192.0.2.9"},
		{"an escape", Escape, func(o *Observation) {
			o.Escapes = []Way{{From: "heron", To: "buoy", Path: []string{"heron", "reedbed", "buoy"}}}
		}, "heron.cut", Broken, "heron → reedbed → buoy"},
		{"nothing tried", Escape, func(o *Observation) { o.Attempts = 0 }, "heron.cut", Unknown, "nothing could be tried"},
		{"could not be asked", Escape, func(o *Observation) { o.Unknown = "the guest is asleep" }, "heron.cut", Unknown, "the guest is asleep"},
		{"no evidence", AskHop, func(o *Observation) { o.Evidence = nil }, "heron.path", Unknown, "nothing was observed"},
		{"open port", Scan, func(o *Observation) { o.Open = []lab.Service{{Proto: lab.TCP, From: 443, To: 443}} }, "sluice.inbound", Broken, "tcp/443, the admin page, answers"},
	} {
		doc := Run(sample(t), fake{func(q Probe, o *Observation) {
			if q.Kind == c.kind {
				c.change(o)
			}
		}})
		for _, r := range doc.Claims {
			if r.ID != c.id {
				assert.Equal(t, Holds, r.Verdict, "%s: %s: %s", c.what, r.ID, r.Saw)
				continue
			}
			assert.Equal(t, c.verdict, r.Verdict, c.what)
			assert.Contains(t, r.Saw, c.saw, c.what)
			assert.Equal(t, c.verdict == Broken, r.Remedy != "", "%s: what to try", c.what)
		}
		assert.Equal(t, c.verdict, doc.Verdict, c.what)
	}
	assert.Equal(t, Holds, Run(sample(t), fake{}).Verdict)
	l, err := lab.Read("lab.yaml", []byte("bastion: 1\nlab: empty"))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	assert.Equal(t, Unknown, Run(p, fake{}).Verdict, "no verdict without evidence")
}
