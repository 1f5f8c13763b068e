package lab

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
)

// The tables of this file are the lab file's format 1, key by key.

func labFields() []field[Lab] {
	return []field[Lab]{
		intField("bastion", "Version of the lab file's format.", 1, 1, func(l *Lab) *int { return &l.Version }),
		{"lab", "The lab's name.", nameShape, func(r *reader, n *yaml.Node, l *Lab) { l.Name, _ = r.name(n, "lab") }},
		textField("title", "Description of the lab, in a few words.", func(l *Lab) *string { return &l.Title }),
		networkField("space", "The network that planned subnets are carved from, packed (default: a /16 of private space).",
			func(l *Lab) *netip.Prefix { return &l.Space }),
		boolField("ipv6", "Whether inside segments get IPv6 unique local prefixes as well (RFC 4193).", func(l *Lab) *bool { return &l.IPv6 }),
		objectField("site", "The machine that carries the lab.", siteFields(), func(l *Lab) *Site { return &l.Site }),
		namedField("segments", "segment", "The segments, by name: each is one broadcast domain.", segmentFields(),
			func(l *Lab, name string) *Segment {
				s := &Segment{Name: name}
				l.Segments = append(l.Segments, s)
				return s
			}, func(r *reader, n *yaml.Node, s *Segment) {
				if n.Value != later {
					r.fail(s.Pos, "segment %s is empty; write its keys below it, indented, or later", s.Name)
				}
			}),
		namedField("appliances", "appliance", "The firewalls and routers, by name.", applianceFields(),
			func(l *Lab, name string) *Appliance {
				a := &Appliance{Name: name, Kind: "routed", Running: true}
				l.Appliances = append(l.Appliances, a)
				return a
			}, nil),
		namedField("guests", "guest", "The guests, by name; a plain segment name is one adapter there with DHCP.", guestFields(),
			func(l *Lab, name string) *Guest {
				g := &Guest{Name: name, Running: true}
				l.Guests = append(l.Guests, g)
				return g
			}, func(r *reader, n *yaml.Node, g *Guest) {
				if n.Value == later {
					g.open = append(g.open, question{"segment", "on which segment is it"})
					return
				}
				if v, ok := r.text(n, "a guest's segment"); ok {
					spot := Origin{Pos: place(n), body: place(n), short: "segment", keys: []keySpot{{"segment", place(n), place(n)}}}
					g.body, g.short = spot.body, spot.short
					g.Adapters = []Adapter{{Segment: v, Plugged: true, Origin: spot}}
				}
			}),
		objectsField("accept", "Findings taken on purpose, each with its reason.", []field[Accept]{
			textField("code", "The finding's code.", func(a *Accept) *string { return &a.Code }),
			textField("subject", "Whose finding (default: every one of that code).", func(a *Accept) *string { return &a.Subject }),
			textField("because", "Why it is right here.", func(a *Accept) *string { return &a.Because }),
		}, []string{"code", "because"}, func(l *Lab) *Accept {
			l.Accept = append(l.Accept, Accept{})
			return &l.Accept[len(l.Accept)-1]
		}),
		{"expect", "Sentences that must hold in addition to the standard checks: SOURCE reaches|never reaches DESTINATION [PROTO[/PORT]].",
			listOf(textShape), func(r *reader, n *yaml.Node, l *Lab) {
				r.items(n, func(n *yaml.Node) {
					if text, ok := r.text(n, "an expectation"); ok {
						e, err := ParseExpectation(text)
						if err != nil {
							r.fail(place(n), "%s", shortenError(err))
							return
						}
						e.Pos = place(n)
						l.Expect = append(l.Expect, e)
					}
				})
			}},
	}
}

func siteFields() []field[Site] {
	return []field[Site]{
		listField("networks", "Networks the machine is on already; plans keep clear of them.", prefixShape, parseSubnet,
			func(s *Site) *[]netip.Prefix { return &s.Networks }),
		{"uplinks", "The host's adapters towards upstream: wired or wireless.",
			form{Type: "object", Values: &form{Type: "string", Enum: []string{"wired", "wireless"}}},
			func(r *reader, n *yaml.Node, s *Site) {
				s.Uplinks = map[string]string{}
				r.pairs(n, "uplinks", func(k, v *yaml.Node) {
					if v.Value != "wired" && v.Value != "wireless" {
						r.fail(place(v), "an uplink is not %q%s; write wired or wireless", shorten(v.Value), didYouMean(v.Value, "wired", "wireless"))
						return
					}
					s.Uplinks[k.Value] = v.Value
				})
			}},
		intField("cpus", "Processors.", 1, 4096, func(s *Site) *int { return &s.CPUs }),
		bytesField("memory", "Memory.", func(s *Site) *Bytes { return &s.Memory }),
		bytesField("disk", "Free disk space.", func(s *Site) *Bytes { return &s.Disk }),
		textField("hypervisor", "The hypervisor's terms in the runbook: desktop, server, kernel, or a wording file relative to the lab file.",
			func(s *Site) *string { return &s.Hypervisor }),
		boolField("virtual", "Whether it is a virtual machine itself.", func(s *Site) *bool { return &s.Virtual }),
		boolField("accelerated", "Whether it can accelerate virtual machines.", func(s *Site) *bool { return &s.Accelerated }),
	}
}

func segmentFields() []field[Segment] {
	return []field[Segment]{
		wordField("reach",
			"How far the segment extends: upstream (beyond the host), host (the host has an interface on it), isolated (attached machines only).",
			func(s *Segment) *Reach { return &s.Reach }, Upstream, Host, Isolated).orLater("how far does it reach"),
		wordField("join", "Upstream only: bridged onto an uplink, or translated (nat) by the host.",
			func(s *Segment) *string { return &s.Join }, "bridged", "nat"),
		textField("known-as", "What the hypervisor calls it, letter by letter, where that is not its name here.",
			func(s *Segment) *string { return &s.KnownAs }),
		textField("uplink", "Upstream: the host's adapter towards it. Isolated: the adapter with its switch and its physical machines.",
			func(s *Segment) *string { return &s.Uplink }).orLater("by which of the host's adapters"),
		intField("native", "With an uplink: the tag that travels untagged on its cable, 1 to 4094.", 1, 4094,
			func(s *Segment) *int { return &s.Native }),
		networkField("subnet", "The segment's network (default: planned).",
			func(s *Segment) *netip.Prefix { return &s.Subnet }).orLater("which network has it"),
		intField("hosts", "How many machines the planned subnet must hold.", 1, 1<<20, func(s *Segment) *int { return &s.Hosts }),
		addrField("gateway", "Upstream only: the router that is there.", func(s *Segment) *netip.Addr { return &s.Gateway }).
			orLater("which router is there"),
		listField("routes", "Upstream only: ways back that its router has, each NETWORK via ADDRESS.", form{Type: "string",
			Pattern: `^[0-9.]+/[0-9.]+ via [0-9.]+$`}, parseRoute, func(s *Segment) *[]Route { return &s.Routes }),
		poolField("Upstream only: the site's DHCP pool there, FIRST-LAST.",
			func(s *Segment) (from, to *netip.Addr) { return &s.PoolFrom, &s.PoolTo }),
		nameField("dhcp", "Which DHCP server, other than the appliance, is on the segment: upstream, host, none, or a guest's name.",
			func(s *Segment) *string { return &s.Leases }).orLater("DHCP server there"),
		nameField("within", "The segment whose cable carries this one, tagged.", func(s *Segment) *string { return &s.Within }),
		intField("vlan", "The tag, 1 to 4094 (IEEE 802.1Q).", 0, 65535, func(s *Segment) *int { return &s.VLAN }),
		wordField("foreign-macs", "Whether the switch forwards frames with MAC addresses that it did not assign.",
			func(s *Segment) *string { return &s.ForeignMACs }, "allow", "refuse"),
		hostField("host-address", "Reach host: the host's leg.",
			func(s *Segment) *netip.Prefix { return &s.HostAddress }).orLater("which address has the host there"),
		addrField("host-gateway", "Reach host: the next hop that the host uses there for everything it has no nearer way to.",
			func(s *Segment) *netip.Addr { return &s.HostGateway }),
		boolField("host-forwards", "Reach host: whether the host routes or translates for the segment.",
			func(s *Segment) *bool { return &s.HostForwards }),
		boolField("router-advertisements", "Whether IPv6 router advertisements are seen here from something that is not the appliance.",
			func(s *Segment) *bool { return &s.RouterAdvertisements }),
	}
}

func applianceFields() []field[Appliance] {
	return []field[Appliance]{
		wordField("kind", "How the appliance is placed between its segments.", func(a *Appliance) *string { return &a.Kind }, "routed",
			"transparent", "one-armed"),
		textField("profile", "File with the facts about this kind of appliance (default: the reference appliance).",
			func(a *Appliance) *string { return &a.Profile }),
		boolField("autostart", "Whether it comes up with the host.", func(a *Appliance) *bool { return &a.Autostart }),
		runningField(func(a *Appliance) *bool { return &a.Running }),
		listField("admin-services", "Where it is managed, on each port with admin: true: SCHEME or SCHEME/PORT; https, http, ssh or telnet.",
			form{Type: "string", Pattern: `^(https|http|ssh|telnet)(/[0-9]+)?$`}, parseAdminService,
			func(a *Appliance) *[]AdminService { return &a.AdminServices }),
		objectField("image", "What it is installed from.", imageFields(), func(a *Appliance) *Image { return &a.Image }),
		objectField("machine", "How its virtual machine is made (default: planned).", machineFields(),
			func(a *Appliance) *Machine { return &a.Machine }),
		objectField("needs", "What its image requires of the machine.", needsFields(), func(a *Appliance) *Needs { return &a.Needs }),
		listField("duties", "Services besides routing; they decide its size.", form{Type: "string", Enum: duties}, func(text string) (string, error) {
			if !slices.Contains(duties, text) {
				return "", fmt.Errorf("%q is not a service%s; write %s", shorten(text), didYouMean(text, duties...), strings.Join(duties, ", "))
			}
			return text, nil
		}, func(a *Appliance) *[]string { return &a.Duties }),
		parsedField("throughput", "What it must pass, such as 100Mbit or 1Gbit; sizes follow.",
			form{Type: "string", Pattern: "^[0-9]+ ?[MG]bit$"}, parseRate, func(a *Appliance) *int { return &a.Mbits }),
		intField("tunnels", "Number of encrypted tunnels.", 1, 100_000, func(a *Appliance) *int { return &a.Tunnels }),
		objectsField("ports", "Its interfaces, in adapter order.", portFields(), []string{"role"}, func(a *Appliance) *Port {
			p := &Port{Plugged: true}
			a.Ports = append(a.Ports, p)
			return p
		}),
		objectField("nat", "Address translation.", natFields(), func(a *Appliance) *NAT { return &a.NAT }),
		field[Appliance]{"rules", "Sentences, the first that matches decides: allow|deny|refuse PROTO[/PORT[-PORT]][,…] from SOURCE to DESTINATION [log].",
			listOf(textShape), func(r *reader, n *yaml.Node, a *Appliance) {
				r.items(n, func(n *yaml.Node) {
					if text, ok := r.text(n, "a rule"); ok {
						rule, err := ParseRule(text)
						if err != nil {
							r.fail(place(n), "%s", shortenError(err))
							return
						}
						rule.Pos = place(n)
						a.Rules = append(a.Rules, rule)
					}
				})
			}}.orLater("which rules has it"),
	}
}

// duties are what an appliance may do beside routing.
var duties = []string{"filter", "intrusion-detection", "proxy", "vpn"}

// parseRate reads a throughput as Mbit/s, up to 400 Gbit/s.
func parseRate(text string) (int, error) {
	t := strings.ToLower(strings.ReplaceAll(text, " ", ""))
	unit := 1
	number, ok := strings.CutSuffix(t, "mbit")
	if !ok {
		unit = 1000
		number, ok = strings.CutSuffix(t, "gbit")
	}
	n, err := strconv.Atoi(number)
	if !ok || err != nil || n < 1 || n*unit > 400_000 {
		return 0, fmt.Errorf("%q is not a throughput; write one such as 100Mbit or 1Gbit", shorten(text))
	}
	return n * unit, nil
}

func imageFields() []field[Image] {
	return []field[Image]{
		textField("file", "The image's file.", func(i *Image) *string { return &i.File }),
		parsedField("sha256", "Its SHA-256 digest, in hexadecimal.", form{Type: "string", Pattern: "^[0-9a-fA-F]{64}$"}, parseDigest,
			func(i *Image) *string { return &i.SHA256 }),
		objectField("evaluation", "A trial period.", []field[Evaluation]{
			parsedField("from", "First day, as YEAR-MONTH-DAY.", form{Type: "string", Pattern: `^\d{4}-\d{2}-\d{2}$`},
				func(text string) (time.Time, error) {
					t, err := parseDay(text)
					if err != nil {
						return t, fmt.Errorf("%q is not a date; write one such as 2026-11-20", text)
					}
					return t, nil
				}, func(e *Evaluation) *time.Time { return &e.From }),
			intField("days", "How many days it lasts.", 1, 3660, func(e *Evaluation) *int { return &e.Days }),
		}, func(i *Image) *Evaluation { return &i.Evaluation }),
		objectField("allows", "What its licence allows.", []field[Licence]{
			intField("cpus", "Processors.", 1, 1024, func(l *Licence) *int { return &l.CPUs }),
			bytesField("memory", "Memory.", func(l *Licence) *Bytes { return &l.Memory }),
			intField("adapters", "Adapters.", 1, 1024, func(l *Licence) *int { return &l.Adapters }),
			parsedField("throughput", "What it passes, such as 100Mbit or 1Gbit.",
				form{Type: "string", Pattern: "^[0-9]+ ?[MG]bit$"}, parseRate, func(l *Licence) *int { return &l.Mbits }),
			intField("tunnels", "Encrypted tunnels.", 1, 100_000, func(l *Licence) *int { return &l.Tunnels }),
		}, func(i *Image) *Licence { return &i.Allows }),
	}
}

func parseDigest(text string) (string, error) {
	t := strings.ToLower(strings.TrimSpace(text))
	if len(t) != 64 || strings.Trim(t, "0123456789abcdef") != "" {
		return "", fmt.Errorf("a SHA-256 digest has 64 hexadecimal digits, this has %d characters", len(t))
	}
	return t, nil
}

func machineFields() []field[Machine] {
	return []field[Machine]{
		intField("cpus", "Processors.", 1, 1024, func(m *Machine) *int { return &m.CPUs }),
		bytesField("memory", "Memory.", func(m *Machine) *Bytes { return &m.Memory }),
		bytesField("memory-floor", "What memory may shrink to.", func(m *Machine) *Bytes { return &m.MemoryFloor }),
		bytesField("disk", "Disk.", func(m *Machine) *Bytes { return &m.Disk }),
		textField("disk-bus", "How the disk is attached, such as virtio, scsi, sata or ide.", func(m *Machine) *string { return &m.DiskBus }),
		textField("nic", "Adapter model, such as virtio or e1000.", func(m *Machine) *string { return &m.NIC }),
		intField("queues", "Queues of each adapter: one for each processor, and no more.", 1, 256, func(m *Machine) *int { return &m.Queues }),
		wordField("firmware", "How it boots.", func(m *Machine) *string { return &m.Firmware }, "bios", "uefi"),
		listField("boot", "Boot order: disk, media, network.", form{Type: "string", Enum: []string{"disk", "media", "network"}},
			func(text string) (string, error) {
				switch text {
				case "disk", "media", "network":
					return text, nil
				}
				return "", fmt.Errorf("%q cannot be booted from%s; write disk, media or network", shorten(text),
					didYouMean(text, "disk", "media", "network"))
			}, func(m *Machine) *[]string { return &m.Boot }),
		textField("media", "Installation medium in the drive.", func(m *Machine) *string { return &m.Media }),
	}
}

func needsFields() []field[Needs] {
	return []field[Needs]{
		intField("cpus", "Fewest processors.", 1, 1024, func(n *Needs) *int { return &n.CPUs }),
		bytesField("memory", "Least memory.", func(n *Needs) *Bytes { return &n.Memory }),
		bytesField("disk", "Smallest disk.", func(n *Needs) *Bytes { return &n.Disk }),
		listField("nics", "Adapter models it has drivers for.", textShape, plain, func(n *Needs) *[]string { return &n.NICs }),
		listField("disk-buses", "Disk buses it has drivers for.", textShape, plain, func(n *Needs) *[]string { return &n.DiskBuses }),
	}
}

func portFields() []field[Port] {
	return []field[Port]{
		wordField("role", "The port's role.", func(p *Port) *Role { return &p.Role }, WAN, LAN, DMZ, Manage,
			Unused).orLater("which side is it"),
		{"name", "The port's name (default: its role).", nameShape,
			func(r *reader, n *yaml.Node, p *Port) { p.Name, _ = r.name(n, "a port's name") }},
		nameField("segment", "The segment it is on.", func(p *Port) *string { return &p.Segment }).orLater("on which segment is it"),
		nameField("over", "The port whose adapter carries this one, tagged.", func(p *Port) *string { return &p.Over }),
		nameField("joins", "The port that this one is bridged with: both are one inside segment on purpose.",
			func(p *Port) *string { return &p.Joins }),
		parsedField("address", "dhcp, pppoe, none, or an address with its prefix length (default: planned).", textShape, parsePortAddress,
			func(p *Port) *Address { return &p.Address }).orLater("how does it get its address"),
		addrField("gateway", "With a static WAN address: the next hop.", func(p *Port) *netip.Addr { return &p.Gateway }).
			orLater("which next hop"),
		macField(func(p *Port) *mac.Address { return &p.MAC }),
		textField("device", "What the appliance's system calls the interface, once its console has shown it.",
			func(p *Port) *string { return &p.Device }),
		boolField("plugged", "Whether the adapter is connected.", func(p *Port) *bool { return &p.Plugged }),
		wordField("connect", "When it is connected: from the first start on, or only later, once the appliance is set up.",
			func(p *Port) *string { return &p.Connect }, "now", later),
		boolField("drop-private", "Drop packets from private sources that arrive here.", func(p *Port) *bool { return &p.DropPrivate }),
		{"admin", "Whether the admin page answers here: true for tcp/443, or a port of its own.",
			form{OneOf: []form{boolShape, {Type: "string", Pattern: "^tcp/[0-9]+$"}}},
			func(r *reader, n *yaml.Node, p *Port) {
				text, ok := r.text(n, "admin")
				if !ok {
					return
				}
				if s, err := ParseService(text); err == nil && s.Proto == TCP && s.From == s.To && s.From > 0 {
					p.Admin = Admin{On: true, Port: s.From}
					return
				} else if strings.Contains(text, "/") {
					r.fail(place(n), "admin is true, false or a TCP port, not %q; write one such as tcp/8443", shorten(text))
					return
				}
				if v, ok := r.truth(n, "admin"); ok {
					p.Admin = Admin{On: v}
				}
			}},
		{"dhcp", "The DHCP server of the port, or none.",
			form{OneOf: []form{{Type: "string", Enum: []string{"none"}}, {Type: "object", Properties: properties(leaseFields())}}},
			func(r *reader, n *yaml.Node, p *Port) {
				if n.Kind == yaml.ScalarNode {
					p.Leases.Pos = place(n)
					if p.Leases.Off = n.Value == "none"; !p.Leases.Off {
						r.fail(place(n), "dhcp cannot be %q; write none, or {pool: FIRST-LAST}", shorten(n.Value))
					}
					return
				}
				readObject(r, n, "dhcp", leaseFields(), &p.Leases)
			}},
	}
}

func leaseFields() []field[PortLeases] {
	return []field[PortLeases]{
		poolField("First and last address given out, with a hyphen between.",
			func(l *PortLeases) (from, to *netip.Addr) { return &l.From, &l.To }),
		listField("dns", "DNS servers in leases: addresses, or self for the appliance.", textShape, func(text string) (string, error) {
			if text == "self" {
				return text, nil
			}
			a, err := subnet.ParseAddr(text)
			return a.String(), err
		}, func(l *PortLeases) *[]string { return &l.DNS }),
		parsedField("domain", "Domain in leases.", textShape, parseDomain, func(l *PortLeases) *string { return &l.Domain }),
		parsedField("time", "Lease time, such as 8h.", textShape, parseSpan, func(l *PortLeases) *time.Duration { return &l.Time }),
	}
}

// parseDomain reads a domain name: labels of letters, digits and hyphens, at
// most 253 characters (RFC 1123, section 2.1).
func parseDomain(text string) (string, error) {
	t := strings.TrimSuffix(strings.ToLower(text), ".")
	if len(t) > 253 {
		return "", fmt.Errorf("a domain name has at most 253 characters")
	}
	for _, label := range strings.Split(t, ".") {
		if label == "" || len(label) > 63 || strings.Trim(label,
			"abcdefghijklmnopqrstuvwxyz0123456789-") != "" || label[0] == '-' || label[len(label)-1] == '-' {
			return "", fmt.Errorf("%q is not a valid domain name; write one such as saltmarsh.example", shorten(text))
		}
	}
	return t, nil
}

func parsePortAddress(text string) (Address, error) {
	switch text {
	case "lease":
		return Address{}, errors.New(`"lease" is called dhcp; write address: dhcp`)
	case "dhcp", "pppoe", "none":
		return Address{How: text}, nil
	}
	if !strings.ContainsAny(text, ".:/") {
		return Address{}, fmt.Errorf("%q is not an address setting%s; write dhcp, pppoe, none or ADDRESS/LENGTH", shorten(text),
			didYouMean(text, "dhcp", "pppoe", "none"))
	}
	p, err := subnet.ParsePrefix(text)
	return Address{How: "static", Prefix: p}, err
}

func natFields() []field[NAT] {
	return []field[NAT]{
		{"masquerade", "Segments whose source addresses are translated to the WAN address (default: every lan and dmz segment).", listOf(nameShape),
			func(r *reader, n *yaml.Node, t *NAT) {
				t.Masquerade = []string{}
				r.items(n, func(n *yaml.Node) {
					if v, ok := r.text(n, "masquerade"); ok {
						t.Masquerade = append(t.Masquerade, v)
					}
				})
			}},
		objectsField("publish", "Port forwards: port on the WAN, to a guest, at its port.", []field[Publish]{
			serviceField("port", "The port outside, such as tcp/8443.", func(p *Publish) *Service { return &p.Port }),
			nameField("to", "The guest.", func(p *Publish) *string { return &p.To }),
			serviceField("at", "The guest's port (default: the same).", func(p *Publish) *Service { return &p.Target }),
		}, []string{"port", "to"}, func(t *NAT) *Publish {
			t.Publish = append(t.Publish, Publish{})
			return &t.Publish[len(t.Publish)-1]
		}),
		objectsField("one-to-one", "Outside addresses of their own for guests.", []field[OneToOne]{
			addrField("outside", "The outside address.", func(o *OneToOne) *netip.Addr { return &o.Outside }),
			nameField("inside", "The guest.", func(o *OneToOne) *string { return &o.Inside }),
		}, []string{"outside", "inside"}, func(t *NAT) *OneToOne {
			t.OneToOne = append(t.OneToOne, OneToOne{})
			return &t.OneToOne[len(t.OneToOne)-1]
		}),
	}
}

func adapterFields() []field[Adapter] {
	return []field[Adapter]{
		nameField("segment", "The segment the adapter is on.", func(a *Adapter) *string { return &a.Segment }).orLater("on which segment is it"),
		addrField("reserve", "A reserved address.", func(a *Adapter) *netip.Addr { return &a.Reserve }).orLater("which address is reserved for it"),
		hostField("static", "An address set on the guest, with its prefix length.",
			func(a *Adapter) *netip.Prefix { return &a.Static }).orLater("which address is static"),
		addrField("gateway", "With static: the next hop set on the guest.", func(a *Adapter) *netip.Addr { return &a.Gateway }),
		listField("dns", "With static: DNS servers set on the guest.", addrShape, subnet.ParseAddr,
			func(a *Adapter) *[]netip.Addr { return &a.DNS }),
		macField(func(a *Adapter) *mac.Address { return &a.MAC }),
		textField("device", "What the guest's system calls the interface, once it has been seen.", func(a *Adapter) *string { return &a.Device }),
		textField("nic", "Adapter model.", func(a *Adapter) *string { return &a.NIC }),
		boolField("plugged", "Whether the adapter is connected.", func(a *Adapter) *bool { return &a.Plugged }),
	}
}

// guestFields are an adapter's keys, for the guest with one, and the guest's own.
func guestFields() []field[Guest] {
	var list []field[Guest]
	for _, f := range adapterFields() {
		list = append(list, field[Guest]{f.name, f.doc, f.form, func(r *reader, n *yaml.Node, g *Guest) {
			if len(g.Adapters) == 0 {
				g.Adapters = []Adapter{{Plugged: true, Origin: Origin{Pos: place(n), body: g.body}}}
			}
			a := &g.Adapters[0]
			a.keys = append(a.keys, keySpot{f.name, place(n), place(n)})
			f.read(r, n, a)
		}})
	}
	return append(list,
		objectsField("adapters", "The adapters, in order, for a guest with several.", adapterFields(), nil,
			func(g *Guest) *Adapter {
				g.Adapters = append(g.Adapters, Adapter{Plugged: true})
				return &g.Adapters[len(g.Adapters)-1]
			}),
		boolField("forwards", "Whether the guest passes packets on between its adapters.", func(g *Guest) *bool { return &g.Forwards }),
		boolField("outside", "Whether the guest is outside every appliance on purpose: an attacker, an admin machine.",
			func(g *Guest) *bool { return &g.Outside }),
		boolField("autostart", "Whether it comes up with the host.", func(g *Guest) *bool { return &g.Autostart }),
		runningField(func(g *Guest) *bool { return &g.Running }),
		boolField("physical", "Whether it is a computer on a cable, not a virtual machine.", func(g *Guest) *bool { return &g.Physical }),
		wordField("system", "The family of its system, for device names and tests.", func(g *Guest) *string { return &g.System }, "linux",
			"bsd", "desktop"),
		objectField("machine", "How its virtual machine is made (default: planned).", machineFields(),
			func(g *Guest) *Machine { return &g.Machine }),
	)
}
