package adopt

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/identify"
	"openbastion/internal/observe/listing"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
)

func planned(t *testing.T, text []byte) *plan.Plan {
	l, err := lab.Read("lab.yaml", text)
	require.NoError(t, err, string(text))
	p, err := plan.Build(l)
	require.NoError(t, err, string(text))
	return p
}

// exported returns a machine as its hypervisor writes it, but for tags, which no export
// carries.
func exported(m *plan.Machine) Source {
	b := &identify.Built{Name: m.Name, CPUs: m.Spec.CPUs, Memory: m.Spec.Memory}
	for _, a := range m.Own() {
		b.Adapters = append(
			b.Adapters,
			identify.BuiltAdapter{Number: a.Number, Network: a.Segment.Called(), Models: []string{a.NIC},
				MAC: a.MAC.String(), Plugged: a.Plugged},
		)
	}
	return Source{File: m.Name + ".ovf", Built: b}
}

// shown returns what a machine shows once it runs.
func shown(m *plan.Machine, withMAC bool) Source {
	l := &listing.Listing{RoutesHere: true}
	lines := 0
	for _, a := range m.Own() {
		lines++
		i := listing.Interface{Device: a.Device(), Line: lines}
		if withMAC {
			i.Tail = digits(a.MAC.String())
		}
		address, hop := a.Address, a.Gateway
		i.Lease = listing.NoLease
		if !address.IsValid() && a.How != plan.NoAddress {
			i.Lease = listing.IsLease
			from, bits := a.Segment.Subnet.Addr(), a.Segment.Subnet.Bits()
			for range 60 + a.Machine.Adapters[0].MAC[5] {
				from = from.Next()
			}
			if server, v := a.Segment.LeaseService(); v != nil {
				from, i.LeaseServer = v.Pool.From, server.Address.Addr()
			}
			address, hop = netip.PrefixFrom(from, bits), a.Segment.Gateway
		}
		if address.IsValid() {
			i.Addresses = []listing.Address{{Prefix: address, Masked: true, Line: lines}}
		}
		if hop.IsValid() && (m.Guest != nil || a.Role == lab.WAN) {
			l.Routes = append(l.Routes, listing.Route{Gateway: hop, Device: i.Device, Line: lines})
		}
		l.Interfaces = append(l.Interfaces, i)
	}
	return Source{File: m.Name + ".txt", Name: m.Name, Shown: l}
}

// adopted adopts a plan's machines, of which each paste is there or not.
func adopted(t *testing.T, p *plan.Plan, r *rand.Rand, all bool) ([]byte, *plan.Plan) {
	var sources []Source
	for _, m := range p.Machines {
		sources = append(sources, exported(m))
		if all || r.IntN(3) > 0 {
			sources = append(sources, shown(m, all || r.IntN(4) > 0))
		}
	}
	r.Shuffle(len(sources), func(i, j int) { sources[i], sources[j] = sources[j], sources[i] })
	text, _, err := Write("found", sources)
	require.NoError(t, err)
	again, _, err := Write("found", sources)
	require.NoError(t, err)
	require.Equal(t, string(text), string(again))
	return text, planned(t, text)
}

// leaky returns a drafted lab with one mistake that no export hides: a guest's second
// adapter on the WAN.
func leaky(t *testing.T, shape string, spoil bool) *plan.Plan {
	text, err := draft.Write(draft.Options{Lab: "bench", Shape: shape, Guests: 2})
	require.NoError(t, err)
	if spoil {
		p := planned(t, text)
		g := p.Guests()[0]
		old := fmt.Sprintf("  %s: %s\n", g.Name, g.Adapters[0].Segment.Name)
		text = []byte(
			strings.Replace(
				string(text),
				old,
				fmt.Sprintf("  %s: {adapters: [{segment: %s}, {segment: outer}]}\n", g.Name,
					g.Adapters[0].Segment.Name),
				1,
			),
		)
	}
	return planned(t, text)
}

// What is adopted has the same adapters on the same networks as what is there, nothing
// of it is invented, and a way around the appliance that is there is found.
func TestAdoptedIsWhatIsThere(t *testing.T) {
	shapes := []string{"one-lan", "quarantine", "dmz", "two-uplinks", "chain", "classroom", "later-server"}
	escapes := 0
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 15))
		for _, shape := range shapes {
			spoil := r.IntN(2) == 0 && shape != "later-server"
			p := leaky(t, shape, spoil)
			text, q := adopted(t, p, r, seed == 0)
			what := fmt.Sprintf("%s, seed %d:\n%s", shape, seed, text)
			on := map[string]*plan.Segment{}
			for _, a := range q.Adapters {
				on[a.MAC.String()] = a.Segment
				if a.Address.IsValid() && a.Port != nil && a.Port.Address.How == "static" { // nothing is invented
					x := adapterOf(p, a.MAC.String())
					require.NotNil(t, x, what)
					assert.Equal(t, x.Address, a.Address, what)
				}
			}
			for _, a := range p.Adapters {
				for _, b := range p.Adapters {
					if !a.Machine.Off && !b.Machine.Off {
						assert.Equal(
							t,
							a.Segment == b.Segment,
							on[a.MAC.String()] == on[b.MAC.String()],
							"%s and %s in %s",
							a.Machine.Name,
							b.Machine.Name,
							what,
						)
					}
				}
			}
			if seed > 0 {
				continue
			}
			for _, m := range p.Appliances() {
				require.NotNil(t, q.Machine(m.Name).Appliance, "%s in %s", m.Name, what)
				for _, a := range m.Own() {
					assert.Equal(
						t,
						a.Role == lab.WAN,
						adapterOf(q, a.MAC.String()).Role == lab.WAN,
						"%s.%s in %s",
						m.Name,
						a.Name,
						what,
					)
				}
			}
			verdict := simulator.New(q).Outcome().Verdict
			if spoil {
				escapes++
				assert.Equal(t, claims.Broken, verdict, what)
				assert.Contains(t, codes(q), "dual-homed-guest", what)
			} else {
				assert.NotEqual(t, claims.Broken, verdict, "%s\n%v", what, codes(q))
			}
		}
	}
	assert.NotZero(t, escapes)
}

func codes(p *plan.Plan) (out []string) {
	for _, f := range check.Run(p, time.Time{}) {
		if f.Severity == check.Error {
			out = append(out, f.Code)
		}
	}
	return out
}

func adapterOf(p *plan.Plan, address string) *plan.Adapter {
	for _, a := range p.Adapters {
		if a.MAC.String() == address && a.Over == nil {
			return a
		}
	}
	return nil
}

// Whatever is pasted, what is written is a lab file that can be planned, or why there
// is none is said.
func FuzzWrite(f *testing.F) {
	f.Add(
		"2: eth0: mtu 1500\n link/ether 02:5b:ac:50:c2:01\n inet 10.83.16.1/24\ndefault via 10.83.16.254\n",
		"eth1 10.83.16.9/24",
		"gate",
	)
	f.Add(
		"wan -> eth0 -> v4: 172.29.64.7/24\nlan -> eth1 -> v4: 10.83.16.1/24",
		"vnet0 bridge LAN virtio 02:5b:ac:50:c2:02",
		"host",
	)
	f.Fuzz(func(t *testing.T, one, two, name string) {
		if len(one)+len(two) > 1<<14 {
			return
		}
		a, b := listing.Read(one), listing.Read(two)
		if lab.CheckName(name) != nil {
			name = ""
		}
		text, _, err := Write("found", []Source{{File: "one.txt", Name: name, Shown: &a}, {File: "two.txt", Shown: &b}})
		if err != nil {
			return
		}
		l, err := lab.Read("lab.yaml", text)
		require.NoError(t, err, string(text))
		_, _ = plan.Build(l)
	})
}
