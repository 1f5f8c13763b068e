// Package draft writes lab files to start from: commented, in the order in
// which people think, and sound as they stand.
package draft

import (
	"fmt"
	"net/netip"
	"strings"

	"openbastion/internal/model/subnet"
)

// Options are what a draft is made of. The zero value of each is replaced by
// the default that its comment names.
type Options struct {
	Lab         string
	Title       string         // left out when empty
	Shape       string         // one-lan
	Appliance   string         // gate
	Profile     string         // of its appliances: a shipped one's name, or a file as seen from the lab file; left out when empty
	WAN         string         // outer
	LANs        []string       // one, inner
	Guests      int            // on each LAN: 1
	Benches     int            // of a classroom: 4
	Networks    []netip.Prefix // that the host is on already
	Uplink      string         // left out when empty
	NAT         bool           // the host translates for the WAN, as bridging would not work
	Accelerated *bool          // left out when nil
	Virtual     bool           // the host is a virtual machine itself
	Hypervisor  string         // whose words the runbook speaks; left out when empty
	LANUplink   string         // the host's second adapter, of shapes that have one: enp2
	LANAddress  netip.Prefix   // the appliance's on the first LAN; planned when invalid
	Pool        string         // what it hands out there, FIRST-LAST; planned when empty
}

// usualLAN is the appliance's address inside where a shape must say one.
var usualLAN = netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 83, 16, 1}), 24)

// SetLAN takes the appliance's address on the first LAN as people type it; an empty
// text leaves it to the plan.
func SetLAN(o *Options, text string) error {
	if text == "" {
		o.LANAddress = netip.Prefix{}
		return nil
	}
	p, err := subnet.ParsePrefix(text)
	switch {
	case err != nil:
		return err
	case !p.Addr().Is4():
		return fmt.Errorf("%s is IPv6; a LAN has an IPv4 network, and optionally an IPv6 one", p)
	case p.Bits() > 30:
		return fmt.Errorf("%s has no room for guests: a LAN needs a prefix length of at most /30", p)
	case subnet.Reserved(p.Masked(), p.Addr()):
		return fmt.Errorf(
			"%s is the network or its broadcast address; the first usable one is %s",
			p.Addr(),
			subnet.First(p.Masked()),
		)
	}
	o.LANAddress = p
	return nil
}

// SetPool takes what the appliance hands out on the first LAN: FIRST-LAST.
func SetPool(o *Options, text string) error {
	first, last, ok := strings.Cut(text, "-")
	from, err := subnet.ParseAddr(strings.TrimSpace(first))
	if err != nil {
		return err
	}
	to, err := subnet.ParseAddr(strings.TrimSpace(last))
	switch net := o.LANAddress.Masked(); {
	case !ok || err != nil:
		return fmt.Errorf("%q has no second address; write FIRST-LAST", text)
	case to.Less(from):
		return fmt.Errorf("it ends before it begins")
	case net.IsValid() && !(net.Contains(from) && net.Contains(to)):
		return fmt.Errorf("it is not within %s", net)
	case net.IsValid() && !o.LANAddress.Addr().Less(from) && !to.Less(o.LANAddress.Addr()):
		return fmt.Errorf("it contains %s, the appliance's own address", o.LANAddress.Addr())
	}
	o.Pool = from.String() + "-" + to.String()
	return nil
}

// inside writes an inside port with what was chosen for it.
func (o *Options) inside(role, more, segment string) string {
	text := "{role: " + role + ", segment: " + segment
	if o.LANAddress.IsValid() {
		text += ", address: " + o.LANAddress.String()
	}
	if o.Pool != "" {
		text += ", dhcp: {pool: " + o.Pool + "}"
	}
	if more != "" {
		text += ", " + more
	}
	return text + "}"
}

func (o *Options) defaults() {
	set := func(at *string, text string) {
		if *at == "" {
			*at = text
		}
	}
	set(&o.Shape, Shapes[0].Name)
	set(&o.Appliance, "gate")
	set(&o.WAN, "outer")
	set(&o.LANUplink, "enp2")
	if len(o.LANs) == 0 {
		o.LANs = []string{"inner"}
	}
	if o.Guests == 0 {
		o.Guests = 1
	}
	if o.Benches == 0 {
		o.Benches = 4
	}
}

// Write returns the lab file. The error says what no draft can be made of.
func Write(o Options) ([]byte, error) {
	o.defaults()
	shape, ok := ShapeNamed(o.Shape)
	if !ok {
		var names []string
		for _, s := range Shapes {
			names = append(names, s.Name)
		}
		return nil, fmt.Errorf("no shape %q; shapes: %s", o.Shape, strings.Join(names, ", "))
	}
	if o.Guests < 0 || o.Guests > 1000 || o.Benches < 1 || o.Benches > 200 {
		return nil, fmt.Errorf(
			"a draft has at most 1000 guests on a segment and 1 to 200 benches; change the file for more",
		)
	}
	var w writer
	w.line("# %s. Look at the plan with `bastion plan`, and see", strings.ToUpper(shape.What[:1])+shape.What[1:])
	w.line("# what it asserts with `bastion rehearse`. Everything left out here is planned.")
	w.line("bastion: 1                  # version of this format")
	w.line("lab: %s", o.Lab)
	if o.Title != "" {
		w.line("title: %q", o.Title)
	}
	w.line("")
	if len(o.Networks) > 0 || o.Hypervisor != "" || o.Virtual {
		var list []string
		for _, n := range o.Networks {
			list = append(list, n.String())
		}
		w.line("site:")
		if len(list) > 0 {
			w.line(
				"  networks: [%s]   # networks this machine is on already; the plan avoids them",
				strings.Join(list, ", "),
			)
		}
		if o.Hypervisor != "" {
			w.line("  hypervisor: %s      # its terms in the runbook", o.Hypervisor)
		}
		if o.Virtual {
			w.line("  virtual: true           # it is a virtual machine itself")
		}
		if o.Accelerated != nil {
			w.line("  accelerated: %t", *o.Accelerated)
		}
	} else {
		w.line("# site:                     # `bastion survey --write` fills it in")
		w.line("#   networks: [192.0.2.0/24]   # networks this machine is on already; the plan keeps clear of them")
	}
	w.line("")
	shape.body(&o, &w)
	return []byte(w.String()), nil
}

// guestName returns the n-th guest's name, from 1.
func guestName(n int) string { return fmt.Sprintf("guest%d", n) }
