package claims

import (
	"context"
	"encoding/json"
	"errors"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
)

// fake is a stage that sees what a sound lab would show, unless change says
// otherwise of an answer.
type fake struct {
	p      *plan.Plan
	change func(Asking, *Answer)
	sets   []Condition
	asks   []AskKind
	refuse bool // it can set no condition
}

var facts = Facts{Name: "fake", Witness: Witness{Name: "buoy.example", Address: netip.MustParseAddr("203.0.113.80")}}

func (f *fake) Open(_ context.Context, p *plan.Plan) (Facts, error) {
	f.p = p
	out := facts
	out.Sets, out.Asks = f.sets, f.asks
	return out, nil
}

func (f *fake) Set(_ context.Context, c Condition) error {
	if f.refuse && c == Unplugged {
		return errors.New("the cable is glued in")
	}
	return nil
}

func (*fake) Close(context.Context) error { return nil }

func (f *fake) Ask(_ context.Context, questions []Question, tell func(Answer)) error {
	port := f.p.Segment("reedbed").Port
	s := port.Leases
	for _, q := range questions {
		a := Answer{ID: q.ID, Evidence: []Evidence{{Frame: 7, Text: "seen"}}}
		switch ask := q.Ask.(type) {
		case AskAddress:
			a.Got = GotAddress{netip.MustParsePrefix("172.29.64.7/24")}
		case AskLease:
			a.Got = GotLease{&dhcp.Binding{Address: netip.PrefixFrom(s.Pool.From, 24), Router: s.Router, DNS: s.DNS, ServerMAC: port.MAC,
				Server: s.Router}}
		case AskServers:
			a.Got = GotServers{[]dhcp.Offer{{Server: s.Router, ServerMAC: port.MAC}}}
		case AskRouters:
			a.Got = GotRouters{}
		case AskNeighbor:
			a.Got = GotNeighbor{Hop: s.Router, Hardware: []mac.Address{port.MAC}}
		case AskName:
			a.Got = GotName{Answered: true, Resolver: s.Router, Addresses: []netip.Addr{facts.Witness.Address}}
		case AskHop:
			a.Got = GotHop{Router: s.Router}
		case AskOwners:
			got := GotOwners{}
			for range ask.Addresses {
				got.Owners = append(got.Owners, []mac.Address{port.MAC})
			}
			a.Got = got
		case AskReach:
			a.Got = GotReach{Answered: true, Source: netip.MustParseAddr("172.29.64.7")}
		case AskAttack:
			a.Got = GotAttack{Attempts: 9}
		case AskScan:
			a.Got = GotScan{Attempts: 9}
		}
		if f.change != nil {
			f.change(q.Ask, &a)
		}
		tell(a)
	}
	return nil
}

func sample(t require.TestingT) *plan.Plan {
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

func run(t require.TestingT, f *fake) (Outcome, Answers) {
	doc, answers, err := Run(context.Background(), sample(t), f)
	require.NoError(t, err)
	return doc, answers
}

// changed makes a change of one type of answer.
func changed[T Got](change func(*T)) func(Asking, *Answer) {
	return func(_ Asking, a *Answer) {
		if got, ok := a.Got.(T); ok {
			change(&got)
			a.Got = got
		}
	}
}

// Each case changes what the stage saw of one question, and names the claim that
// must not hold and why.
func TestJudgements(t *testing.T) {
	stranger := mac.Address{2, 9, 9, 9, 9, 9}
	foreign := netip.MustParseAddr("192.0.2.9")
	missing := func(kind AskKind, why string) func(Asking, *Answer) {
		return func(q Asking, a *Answer) {
			if q.kind() == kind {
				a.Got, a.Missing = nil, why
			}
		}
	}
	for _, c := range []struct {
		what    string
		change  func(Asking, *Answer)
		id      string
		verdict Verdict
		saw     string
	}{
		{"no lease", changed(func(o *GotLease) { o.Lease = nil }), "heron.dhcp", Broken, "heron got no DHCP lease"},
		{"out of the pool", changed(func(o *GotLease) { o.Lease.Address = netip.PrefixFrom(foreign, 24) }), "heron.dhcp", Broken,
			"outside the pool"},
		{"wrong mask", changed(func(o *GotLease) { o.Lease.Address = netip.PrefixFrom(o.Lease.Address.Addr(), 16) }), "heron.dhcp", Broken,
			"the prefix length /16"},
		{"wrong router", changed(func(o *GotLease) { o.Lease.Router = foreign }), "heron.dhcp", Broken, "the default gateway 192.0.2.9"},
		{"wrong DNS server", changed(func(o *GotLease) { o.Lease.DNS = []netip.Addr{foreign} }), "heron.dhcp", Broken, "DNS server 192.0.2.9; planned"},
		{"another server", changed(func(o *GotLease) { o.Lease.ServerMAC = stranger }), "heron.dhcp", Broken, "not from sluice.lan"},
		{"a second server", changed(func(o *GotServers) {
			o.Offers = append(o.Offers, dhcp.Offer{Server: foreign, ServerMAC: stranger, Address: foreign})
		}), "reedbed.one-dhcp", Broken, "(192.0.2.9, 02:09:09:09:09:09) answers on reedbed as well and offers"},
		{"no server", changed(func(o *GotServers) { o.Offers = nil }), "reedbed.one-dhcp", Broken, "no DHCP server answers"},
		{"silent gateway", changed(func(o *GotNeighbor) { o.Hardware = nil }), "heron.gateway", Broken, "does not answer"},
		{"two gateways", changed(func(o *GotNeighbor) { o.Hardware = append(o.Hardware, stranger) }), "heron.gateway", Broken,
			"two machines answer"},
		{"wrong gateway", changed(func(o *GotNeighbor) { o.Hardware = []mac.Address{stranger} }), "heron.gateway", Broken,
			"is 02:09:09:09:09:09; planned: "},
		{"wrong name", changed(func(o *GotName) { o.Addresses = []netip.Addr{foreign} }), "heron.dns", Broken,
			"address 192.0.2.9 for buoy.example; it is 203.0.113.80"},
		{"no path outside", changed(func(o *GotReach) { o.Answered = false }), "heron.outside", Broken, "does not reach the test server (icmp)"},
		{"around", changed(func(o *GotReach) { o.Source = foreign }), "heron.outside", Broken,
			"from 192.0.2.9, not from the WAN address 172.29.64.7 of sluice"},
		{"another first hop", changed(func(o *GotHop) { o.Router = foreign }), "heron.first-hop", Broken, "the first hop is 192.0.2.9"},
		{"a bypass", changed(func(o *GotAttack) {
			o.Ways = []Way{{From: "heron", To: "buoy", Path: []string{"heron", "reedbed", "buoy"}}}
		}), "heron.no-bypass", Broken, "heron → reedbed → buoy"},
		{"nothing tried", changed(func(o *GotAttack) { o.Attempts = 0 }), "heron.no-bypass", Unknown, "nothing could be tried"},
		{"could not be asked", missing("attack", "the guest is asleep"), "heron.no-bypass", Unknown, "the guest is asleep"},
		{"no evidence", func(q Asking, a *Answer) {
			if q.kind() == "hop" {
				a.Evidence = nil
			}
		}, "heron.first-hop", Unknown, "nothing was observed"},
		{"another kind of answer", func(q Asking, a *Answer) {
			if q.kind() == "hop" {
				a.Got = GotScan{}
			}
		}, "heron.first-hop", Unknown, "nothing was answered"},
		{"open port", changed(func(o *GotScan) { o.Open = []lab.Service{{Proto: lab.TCP, From: 443, To: 443}} }), "sluice.inbound", Broken,
			"tcp/443 (the admin page) answers at sluice.wan"},
	} {
		doc, _ := run(t, &fake{change: c.change})
		for _, r := range doc.Claims {
			if r.ID != c.id && r.Follows == c.id {
				continue
			}
			if r.ID != c.id {
				assert.Equal(t, Holds, r.Verdict, "%s: %s: %s", c.what, r.ID, r.Observed)
				continue
			}
			assert.Equal(t, c.verdict, r.Verdict, c.what)
			assert.Contains(t, r.Observed, c.saw, c.what)
			assert.Equal(t, c.verdict == Broken, r.Remedy != "", "%s: what to do", c.what)
			if assert.Equal(t, c.verdict == Broken, r.Reason != nil, c.what) && r.Reason != nil {
				assert.NotContains(t, r.Observed+r.Remedy, "{", "%s: a field that its reason does not have", c.what)
				assert.NotRegexp(
					t,
					`(^|\s)[,;.:](\s|$)|  |\(\)`,
					r.Observed+" "+r.Remedy,
					"%s: a field that is empty",
					c.what,
				)
			}
		}
		assert.Equal(t, c.verdict, doc.Verdict, c.what)
	}
	doc, _ := run(t, &fake{})
	assert.Equal(t, Holds, doc.Verdict)
	l, err := lab.Read("lab.yaml", []byte("bastion: 1\nlab: empty"))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	assert.Equal(t, Unknown, Judge(p, facts, nil).Verdict, "no verdict without evidence")
}

// What a stage cannot set or be asked is unknown, and says so.
func TestWhatAStageCannot(t *testing.T) {
	for why, f := range map[string]*fake{
		"cannot make the lab unplugged": {sets: []Condition{Running}},
		"the cable is glued in":         {refuse: true},
		"the fake cannot be asked for attack": {asks: []AskKind{"lease", "servers", "routers", "neighbor", "name", "hop", "reach", "address",
			"scan", "owners"}},
	} {
		doc, _ := run(t, f)
		for _, r := range doc.Claims {
			if r.Kind == NoBypass {
				assert.Equal(t, Unknown, r.Verdict)
				assert.Contains(t, r.Observed, why)
			} else {
				assert.Equal(t, Holds, r.Verdict, "%s: %s", r.ID, r.Observed)
			}
		}
		assert.Equal(t, Unknown, doc.Verdict)
	}
}

// Judging is monotone: with answers left out, in whatever order they come and
// after any journey as JSON, a claim is as with all of them, or unknown; and what
// some of the answers prove broken stays so.
func TestMonotone(t *testing.T) {
	broken := changed(func(o *GotReach) { o.Answered = false })
	rapid.Check(t, func(t *rapid.T) {
		f := &fake{}
		if rapid.Bool().Draw(t, "broken") {
			f.change = broken
		}
		p := sample(t)
		whole, answers, err := Run(context.Background(), p, f)
		require.NoError(t, err)
		list := append([]Answer(nil), answers.Answers...)
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 0))
		r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		list = list[:rapid.IntRange(0, len(list)).Draw(t, "kept")]
		data, err := json.Marshal(list)
		require.NoError(t, err)
		var travelled []Answer
		require.NoError(t, json.Unmarshal(data, &travelled))
		some := Judge(p, facts, travelled)
		for i, c := range some.Claims {
			all := whole.Claims[i].Verdict
			if c.Verdict != Unknown {
				assert.Equal(t, all, c.Verdict, "%s: %s", c.ID, c.Observed)
			}
			if c.Verdict == Broken {
				assert.NotEmpty(t, c.Evidence, c.ID)
			}
		}
		again := Judge(p, facts, append(travelled, answers.Answers...))
		assert.Equal(t, whole.Verdict, again.Verdict, "judged together with the rest, nothing is missing")
	})
}

// Every question travels as JSON, and is the same afterwards.
func TestQuestionsTravel(t *testing.T) {
	p := sample(t)
	list := Questions(p, facts)
	seen := map[string]bool{}
	for _, q := range list {
		assert.False(t, seen[q.ID], q.ID)
		seen[q.ID] = true
	}
	data, err := json.Marshal(list)
	require.NoError(t, err)
	var got []Question
	require.NoError(t, json.Unmarshal(data, &got))
	assert.Equal(t, list, got)
	assert.Error(t, json.Unmarshal([]byte(`{"id":"a","kind":"weather","ask":{}}`), &Question{}))
	_, err = Ref{Machine: "hare"}.In(p)
	assert.ErrorContains(t, err, `no machine "hare"`)
	_, err = Ref{Machine: "heron", Adapter: 9}.In(p)
	assert.ErrorContains(t, err, "no adapter 9")
}

func FuzzReadAnswers(f *testing.F) {
	_, answers := run(f, &fake{})
	data, err := json.Marshal(answers)
	require.NoError(f, err)
	f.Add(data)
	f.Add([]byte(`{"answers":[{"id":"heron.path/1","kind":"hop","got":{"router":"10.0.0.1"},"evidence":[]}]}`))
	p := sample(f)
	f.Fuzz(func(t *testing.T, data []byte) {
		var a Answers
		if json.Unmarshal(data, &a) == nil {
			for _, c := range Judge(p, facts, a.Answers).Claims {
				if c.Verdict != Unknown {
					assert.NotEmpty(t, c.Evidence, c.ID)
				}
			}
		}
	})
}
