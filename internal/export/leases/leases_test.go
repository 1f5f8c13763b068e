package leases

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// What no server takes is refused, with the segment and what is wrong.
func TestRefused(t *testing.T) {
	for _, c := range []struct{ leases, guest, want string }{
		{"{pool: 10.80.0.50-10.80.0.60}", "s", ""},
		{"{pool: 10.81.0.50-10.81.0.60}", "s", "the pool 10.81.0.50-10.81.0.60 is not within s (10.80.0.0/24)"},
		{"{pool: 10.80.0.250-10.80.1.9}", "s", "is not within s"},
		{"{pool: 10.80.0.50-10.80.0.60}", "{segment: s, reserve: 10.81.0.9}", "the reservation 10.81.0.9 of g is not within s (10.80.0.0/24)"},
	} {
		l, err := lab.Read(
			"lab.yaml",
			[]byte(
				"bastion: 1\nlab: x\nsegments:\n  road: {reach: upstream}\n  s: {reach: isolated, subnet: 10.80.0.0/24}\n"+
					"appliances:\n  gate: {ports: [{role: wan, segment: road}, {role: lan, segment: s, dhcp: "+c.leases+"}]}\nguests:\n  g: "+c.guest+"\n",
			),
		)
		require.NoError(t, err, c.leases)
		p, err := plan.Build(l)
		require.NoError(t, err, c.leases)
		files, err := Files(p)
		if c.want == "" {
			require.NoError(t, err)
			assert.Len(t, files, 2)
		} else {
			assert.ErrorContains(t, err, c.want)
			assert.Empty(t, files)
		}
	}
}

// Both configurations say of every service what the plan does: network, pool,
// options, reservations; and who hands out none has none.
func TestFiles(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		b.WriteString("bastion: 1\nlab: leases\nsegments:\n  road: {reach: upstream}\n")
		n := rapid.IntRange(1, 4).Draw(t, "segments")
		var ports, guests []string
		for i := range n {
			bits := rapid.SampledFrom([]int{22, 24, 26}).Draw(t, "length")
			fmt.Fprintf(&b, "  s%d: {reach: isolated, subnet: 10.%d.0.0/%d}\n", i, 80+i, bits)
			leases := ""
			switch rapid.SampledFrom([]string{"planned", "none", "given"}).Draw(t, "leases") {
			case "none":
				leases = ", dhcp: none"
			case "given":
				leases = fmt.Sprintf(
					", dhcp: {pool: 10.%d.0.30-10.%d.0.40, dns: [10.9.9.9, self], domain: s%d.example, time: 90m}",
					80+i,
					80+i,
					i,
				)
			}
			ports = append(ports, fmt.Sprintf("{role: lan, name: p%d, segment: s%d%s}", i, i, leases))
			for k := range rapid.IntRange(0, 2).Draw(t, "guests") {
				if leases != ", dhcp: none" {
					guests = append(
						guests,
						fmt.Sprintf("  g%d-%d: {segment: s%d, reserve: 10.%d.0.%d}\n", i, k, i, 80+i, 10+k),
					)
				}
			}
		}
		fmt.Fprintf(
			&b,
			"appliances:\n  gate: {ports: [{role: wan, segment: road}, %s]}\nguests:\n  last: s0\n%s",
			strings.Join(ports, ", "),
			strings.Join(guests, ""),
		)
		l, err := lab.Read("lab.yaml", []byte(b.String()))
		require.NoError(t, err, b.String())
		p, err := plan.Build(l)
		require.NoError(t, err, b.String())
		files, err := Files(p)
		require.NoError(t, err)
		list := services(p.Machine("gate"))
		if len(list) == 0 {
			assert.Empty(t, files)
			return
		}
		require.Len(t, files, 2)
		text := string(files[0].Data)
		var c struct{ Dhcp4 config }
		require.NoError(t, json.Unmarshal(files[1].Data, &c))
		require.Len(t, c.Dhcp4.Subnets, len(list))
		for i, s := range list {
			net := s.at.Segment.Subnet
			assert.Contains(
				t,
				text,
				fmt.Sprintf(
					"subnet %s netmask %s {\n  range %s %s;\n",
					net.Addr(),
					subnet.Mask(net.Bits()),
					s.v.Pool.From,
					s.v.Pool.To,
				),
			)
			got := c.Dhcp4.Subnets[i]
			assert.Equal(t, net.String(), got.Subnet)
			assert.Equal(t, s.v.Pool.From.String()+" - "+s.v.Pool.To.String(), got.Pools[0].Pool)
			assert.Equal(t, int(s.v.Time.Seconds()), got.Lifetime)
			options := map[string]string{}
			for _, o := range got.Options {
				options[o.Name] = o.Data
			}
			assert.Equal(t, s.v.Router.String(), options["routers"])
			assert.Equal(t, join(s.v.DNS), options["domain-name-servers"])
			assert.Equal(t, s.v.Domain, options["domain-name"])
			require.Len(t, got.Reservations, len(s.v.Reservations))
			for k, r := range s.v.Reservations {
				assert.Equal(
					t,
					reservation{r.MAC.String(), r.Address.Addr().String(), r.Machine.Name},
					got.Reservations[k],
				)
				assert.Contains(
					t,
					text,
					fmt.Sprintf("hardware ethernet %s;\n  fixed-address %s;", r.MAC, r.Address.Addr()),
				)
				assert.True(t, net.Contains(netip.MustParseAddr(got.Reservations[k].Address)))
			}
		}
		assert.Equal(t, len(list), strings.Count(text, "\nsubnet "))
	})
}
