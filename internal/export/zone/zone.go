// Package zone writes a lab's names for name servers and resolvers: master
// files (RFC 1035, section 5) for its domains and the reverse of its networks
// (RFC 1035, section 3.5; RFC 3596, section 2.5), and lines for a hosts file.
package zone

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"openbastion/internal/export/fileset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// named is a machine's name with an address that the plan knows.
type named struct {
	name, domain string
	address      netip.Addr
	segment      *plan.Segment
}

// domainOf returns the domain that names on a segment are in.
func domainOf(p *plan.Plan, s *plan.Segment) string {
	if s.Port != nil && s.Port.Leases != nil && s.Port.Leases.Domain != "" {
		return s.Port.Leases.Domain
	}
	return p.Name + ".example"
}

func names(p *plan.Plan) []named {
	var out []named
	for _, a := range p.Adapters {
		if a.Segment.Reach == lab.Upstream {
			continue // upstream's names are not the lab's
		}
		name := a.Machine.Name
		if a.Machine.Appliance != nil && a.Segment.Port == a && slices.ContainsFunc(out,
			func(n named) bool { return n.name == name && n.domain == domainOf(p, a.Segment) }) {
			name += "-" + a.Name
		}
		if a.Address.IsValid() {
			out = append(out, named{name, domainOf(p, a.Segment), a.Address.Addr(), a.Segment})
		}
		if a.Address6.IsValid() {
			out = append(out, named{name, domainOf(p, a.Segment), a.Address6.Addr(), a.Segment})
		}
	}
	return out
}

// Zones returns a master file for each domain and each reverse zone, in a stable
// order. Guests whose address only a lease will tell are not in them.
func Zones(p *plan.Plan) []fileset.File {
	list := names(p)
	var out []fileset.File
	add := func(origin string, records []string, server string) {
		var b bytes.Buffer
		fmt.Fprintf(&b, "; %s of the lab %s\n$ORIGIN %s.\n$TTL 3600\n%s", origin, p.Name, origin, plan.ChosenComment(p.Adapters, ";"))
		fmt.Fprintf(
			&b,
			"@ IN SOA %s. hostmaster.%s. (\n\t1 ; serial: increase it with every change\n\t7200 ; refresh\n\t900 ; retry\n\t1209600 ; expire\n\t300 ) ; negative cache time\n@ IN NS %s.\n",
			server,
			strings.TrimPrefix(server[strings.IndexByte(server, '.'):], "."),
			server,
		)
		for _, r := range records {
			b.WriteString(r + "\n")
		}
		out = append(out, fileset.File{Name: origin + ".zone", Data: b.Bytes()})
	}
	var domains []string
	for _, n := range list {
		if !slices.Contains(domains, n.domain) {
			domains = append(domains, n.domain)
		}
	}
	server := map[string]string{} // by domain: who answers for it
	for _, d := range domains {
		var records []string
		for _, n := range list {
			if n.domain != d {
				continue
			}
			if server[d] == "" {
				server[d] = n.name + "." + d
			}
			records = append(records, fmt.Sprintf("%s IN %s %s", n.name, kind(n.address), n.address))
		}
		add(d, records, server[d])
	}
	var origins []string
	reverse := map[string][]string{}
	answers := map[string]string{}
	for _, n := range list {
		origin, label := Reverse(n.address, n.segment)
		if !slices.Contains(origins, origin) {
			origins = append(origins, origin)
			answers[origin] = server[n.domain]
		}
		reverse[origin] = append(reverse[origin], fmt.Sprintf("%s IN PTR %s.%s.", label, n.name, n.domain))
	}
	for _, o := range origins {
		add(o, reverse[o], answers[o])
	}
	return out
}

func kind(a netip.Addr) string {
	if a.Is6() {
		return "AAAA"
	}
	return "A"
}

// Reverse returns the reverse zone that an address on a segment is in, and the
// address's label there. A zone ends at a whole byte of the subnet, or a whole
// digit of IPv6: a smaller IPv4 network is in the zone of its /24.
func Reverse(a netip.Addr, s *plan.Segment) (origin, label string) {
	if a.Is6() {
		var digits []string
		b := a.As16()
		for i := len(b) - 1; i >= 0; i-- {
			digits = append(digits, fmt.Sprintf("%x", b[i]&15), fmt.Sprintf("%x", b[i]>>4))
		}
		n := 32 - s.Subnet6.Bits()/4
		return strings.Join(digits[n:], ".") + ".ip6.arpa", strings.Join(digits[:n], ".")
	}
	b := a.As4()
	whole := min(s.Subnet.Bits()/8, 3)
	var up, low []string
	for i := 3; i >= 0; i-- {
		if i >= whole {
			low = append(low, fmt.Sprint(b[i]))
		} else {
			up = append(up, fmt.Sprint(b[i]))
		}
	}
	return strings.Join(append(up, "in-addr.arpa"), "."), strings.Join(low, ".")
}

// Hosts returns the lines of a hosts file.
func Hosts(p *plan.Plan) fileset.File {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# names of the lab %s\n%s", p.Name, plan.ChosenComment(p.Adapters, "#"))
	for _, n := range names(p) {
		fmt.Fprintf(&b, "%s\t%s.%s %s\n", n.address, n.name, n.domain, n.name)
	}
	return fileset.File{Name: "hosts", Data: b.Bytes()}
}
