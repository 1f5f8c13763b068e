// Package leases writes a lab's lease services as configuration for the two
// lease servers that Debian carries: the older one's text and the newer one's
// JSON. Both serve by DHCP (RFC 2131).
package leases

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"

	"openbastion/internal/export/fileset"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// service is one subnet that a machine hands out leases on.
type service struct {
	at *plan.Adapter
	v  *plan.Service
}

func services(m *plan.Machine) []service {
	var out []service
	for _, a := range m.Adapters {
		if a.Leases != nil {
			out = append(out, service{a, a.Leases})
		}
	}
	return out
}

// taken refuses what no server takes: a pool, or a reservation, outside the subnet.
func (s service) taken() error {
	net, where := s.at.Segment.Subnet, s.at.Segment.Name
	if p := s.v.Pool; p.From.IsValid() && (!net.Contains(p.From) || !net.Contains(p.To) || p.To.Less(p.From)) {
		return fmt.Errorf(
			"the pool %s-%s is not within %s (%s), which no server accepts; see bastion check",
			p.From,
			p.To,
			where,
			net,
		)
	}
	for _, r := range s.v.Reservations {
		if !net.Contains(r.Address.Addr()) {
			return fmt.Errorf(
				"the reservation %s of %s is not within %s (%s), which no server accepts; see bastion check",
				r.Address.Addr(),
				r.Machine.Name,
				where,
				net,
			)
		}
	}
	return nil
}

// Files returns both configurations for every machine that hands out leases, in
// a folder of the machine's name.
func Files(p *plan.Plan) ([]fileset.File, error) {
	var out []fileset.File
	for _, m := range p.Machines {
		list := services(m)
		if len(list) == 0 {
			continue
		}
		for _, v := range list {
			if err := v.taken(); err != nil {
				return nil, fmt.Errorf("DHCP: %s: %w", m.Name, err)
			}
		}
		data, err := JSON(m, list)
		if err != nil {
			return nil, fmt.Errorf("DHCP: %s: %w", m.Name, err)
		}
		out = append(out, fileset.File{Name: m.Name + "/dhcpd.conf", Data: Text(m, list)},
			fileset.File{Name: m.Name + "/kea-dhcp4.conf", Data: data})
	}
	return out, nil
}

func join(list []netip.Addr) string {
	return strings.Join(subnet.Texts(list), ", ")
}

// where returns an interface's hardware address as a comment tells it.
func where(a *plan.Adapter) string {
	return fmt.Sprintf("port %s of %s, adapter %d (%s), likely %s", a.Name, a.Machine.Name, a.Number, a.MAC, a.Linux())
}

// Text writes the older server's configuration.
func Text(m *plan.Machine, list []service) []byte {
	var b bytes.Buffer
	fmt.Fprintf(
		&b,
		"# DHCP of %s. The server listens on the interfaces that have these\n# networks; name them in its defaults file.\nauthoritative;\n",
		m.Name,
	)
	b.WriteString(plan.ChosenComment(m.Adapters, "#"))
	for _, s := range list {
		seg := s.at.Segment
		fmt.Fprintf(
			&b,
			"\n# %s: %s\nsubnet %s netmask %s {\n",
			seg.Name,
			where(s.at),
			seg.Subnet.Addr(),
			subnet.Mask(seg.Subnet.Bits()),
		)
		fmt.Fprintf(&b, "  range %s %s;\n", s.v.Pool.From, s.v.Pool.To)
		if s.v.Router.IsValid() {
			fmt.Fprintf(&b, "  option routers %s;\n", s.v.Router)
		}
		if len(s.v.DNS) > 0 {
			fmt.Fprintf(&b, "  option domain-name-servers %s;\n", join(s.v.DNS))
		}
		if s.v.Domain != "" {
			fmt.Fprintf(&b, "  option domain-name \"%s\";\n", s.v.Domain)
		}
		fmt.Fprintf(
			&b,
			"  default-lease-time %d;\n  max-lease-time %d;\n}\n",
			int(s.v.Time.Seconds()),
			int(s.v.Time.Seconds()),
		)
		for _, r := range s.v.Reservations {
			fmt.Fprintf(
				&b,
				"host %s-%s {\n  hardware ethernet %s;\n  fixed-address %s;\n}\n",
				r.Machine.Name,
				seg.Name,
				r.MAC,
				r.Address.Addr(),
			)
		}
	}
	return b.Bytes()
}

type option struct {
	Name string `json:"name"`
	Data string `json:"data"`
}

type pool struct {
	Pool string `json:"pool"`
}

type reservation struct {
	MAC      string `json:"hw-address"`
	Address  string `json:"ip-address"`
	Hostname string `json:"hostname"`
}

type network struct {
	ID           int           `json:"id"`
	Subnet       string        `json:"subnet"`
	Pools        []pool        `json:"pools"`
	Lifetime     int           `json:"valid-lifetime"`
	Options      []option      `json:"option-data"`
	Reservations []reservation `json:"reservations"`
}

type interfaces struct {
	Interfaces []string `json:"interfaces"`
}

type database struct {
	Type string `json:"type"`
}

type config struct {
	Interfaces    interfaces `json:"interfaces-config"`
	Database      database   `json:"lease-database"`
	Authoritative bool       `json:"authoritative"`
	Subnets       []network  `json:"subnet4"`
	About         *about     `json:"user-context,omitempty"`
}

// about is what the server keeps and does not read.
type about struct {
	Comment string   `json:"comment"`
	Chosen  []string `json:"chosen"`
}

// JSON writes the newer server's configuration.
func JSON(m *plan.Machine, list []service) ([]byte, error) {
	c := config{Interfaces: interfaces{[]string{}}, Database: database{"memfile"}, Authoritative: true}
	if chosen := plan.Chosen(m.Adapters); len(chosen) > 0 {
		c.About = &about{"chosen by the plan, not given in the lab file", chosen}
	}
	for i, s := range list {
		c.Interfaces.Interfaces = append(c.Interfaces.Interfaces, s.at.Linux())
		n := network{
			ID:           i + 1,
			Subnet:       s.at.Segment.Subnet.String(),
			Pools:        []pool{{s.v.Pool.From.String() + " - " + s.v.Pool.To.String()}},
			Lifetime:     int(s.v.Time.Seconds()),
			Options:      []option{},
			Reservations: []reservation{},
		}
		if s.v.Router.IsValid() {
			n.Options = append(n.Options, option{"routers", s.v.Router.String()})
		}
		if len(s.v.DNS) > 0 {
			n.Options = append(n.Options, option{"domain-name-servers", join(s.v.DNS)})
		}
		if s.v.Domain != "" {
			n.Options = append(n.Options, option{"domain-name", s.v.Domain})
		}
		for _, r := range s.v.Reservations {
			n.Reservations = append(
				n.Reservations,
				reservation{r.MAC.String(), r.Address.Addr().String(), r.Machine.Name},
			)
		}
		c.Subnets = append(c.Subnets, n)
	}
	data, err := json.MarshalIndent(struct {
		Dhcp4 config `json:"Dhcp4"`
	}{c}, "", "  ")
	return append(data, '\n'), err
}
