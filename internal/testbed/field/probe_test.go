package field

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// A system has one list of resolvers: those of another adapter, and those of IPv6, are not taken
// for what an adapter's lease told; one that nobody planned is.
func TestResolversOfAnAdapter(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(`
bastion: 1
lab: mudflat
segments:
  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  fen: {reach: isolated, subnet: 10.83.17.0/24}
  quay: {reach: isolated, subnet: 10.83.33.0/24}
appliances:
  weir:
    ports:
      - {role: wan, segment: moor}
      - {role: lan, segment: fen, dhcp: {dns: [self, 198.51.100.10]}}
      - {role: lan, name: p1, segment: quay, dhcp: {dns: [198.51.100.10, self]}}
guests: {tern: {adapters: [{segment: fen}, {segment: quay}, {segment: moor}]}}
`))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	tern := p.Machine("tern")
	for name, c := range map[string]struct {
		system string
		by     [3]string
	}{
		"as planned":    {"10.83.17.1 198.51.100.10 10.83.33.1 172.29.70.1 2001:db8::1", [3]string{"10.83.17.1 198.51.100.10", "198.51.100.10 10.83.33.1", "172.29.70.1"}},
		"a strange one": {"10.83.17.1 9.9.9.9", [3]string{"10.83.17.1 9.9.9.9", "9.9.9.9", "9.9.9.9"}},
		"none":          {"", [3]string{}},
	} {
		s := &Probe{plan: p, self: tern, system: System{Resolvers: list(c.system)}}
		for i, want := range c.by {
			assert.ElementsMatch(t, list(want), s.toldBy(tern.Adapters[i]), "%s, adapter %d", name, i+1)
		}
	}
}

func list(text string) (out []netip.Addr) {
	for _, f := range strings.Fields(text) {
		out = append(out, netip.MustParseAddr(f))
	}
	return out
}
