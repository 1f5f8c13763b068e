package zone

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

func TestReverse(t *testing.T) {
	for _, c := range []struct{ address, subnet, origin, label string }{
		{"10.83.16.20", "10.83.16.0/24", "16.83.10.in-addr.arpa", "20"},
		{"10.83.16.200", "10.83.16.128/25", "16.83.10.in-addr.arpa", "200"},
		{"10.83.17.20", "10.83.16.0/22", "83.10.in-addr.arpa", "20.17"},
		{"10.1.2.3", "10.0.0.0/8", "10.in-addr.arpa", "3.2.1"},
		{"10.83.16.5", "10.83.16.4/30", "16.83.10.in-addr.arpa", "5"},
		{"fd43:68ab:6bec:2::1", "fd43:68ab:6bec:2::/64", "2.0.0.0.c.e.b.6.b.a.8.6.3.4.d.f.ip6.arpa", "1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0"},
	} {
		p := netip.MustParsePrefix(c.subnet)
		s := &plan.Segment{Subnet: p, Subnet6: p}
		origin, label := Reverse(netip.MustParseAddr(c.address), s)
		assert.Equal(t, c.origin, origin, c.address)
		assert.Equal(t, c.label, label, c.address)
	}
}

// Every name that is given an address is given back by it, once, in one zone.
func TestZones(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(`bastion: 1
lab: names
ipv6: true
segments:
  road: {reach: upstream}
  desks: {reach: isolated, subnet: 10.83.16.0/23}
  tills: {reach: isolated, subnet: 10.83.18.0/26}
appliances:
  gate:
    ports: [{role: wan, segment: road}, {role: lan, segment: desks, dhcp: {domain: desks.example}}, {role: dmz, segment: tills, dhcp: {domain: desks.example}}]
guests:
  heron: {segment: desks, static: 10.83.17.10/23}
  ferry: {segment: tills, reserve: 10.83.18.10}
  newt: desks
`))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	text := map[string]string{}
	for _, f := range Zones(p) {
		text[strings.TrimSuffix(f.Name, ".zone")] = string(f.Data)
	}
	forward := text["desks.example"]
	assert.Contains(t, forward, "\ngate IN A 10.83.16.1\n")
	assert.Contains(t, forward, "\ngate-dmz IN A 10.83.18.1\n")
	assert.Contains(t, forward, "\nheron IN A 10.83.17.10\n")
	assert.Contains(t, forward, "\nferry IN AAAA fd")
	assert.NotContains(t, forward, "newt IN A ")
	assert.Contains(t, text["83.10.in-addr.arpa"], "\n10.17 IN PTR heron.desks.example.\n")
	assert.Contains(t, text["18.83.10.in-addr.arpa"], "\n10 IN PTR ferry.desks.example.\n")
	pointers := 0
	for origin, data := range text {
		if strings.HasSuffix(origin, ".arpa") {
			pointers += strings.Count(data, " IN PTR ")
		}
		assert.Equal(t, 1, strings.Count(data, " SOA "), origin)
	}
	assert.Equal(t, strings.Count(forward, " IN A ")+strings.Count(forward, " IN AAAA "), pointers)
}
