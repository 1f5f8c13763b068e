package lab

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// The tables of this file are the lab file's format 1, key by key.

func labFields() []field[Lab] {
	return []field[Lab]{
		intField("bastion", "Version of the lab file's format.", 1, 1, func(l *Lab) *int { return &l.Version }),
		{"lab", "The lab's name.", nameShape, func(r *reader, n *yaml.Node, l *Lab) { l.Name, _ = r.name(n, "lab") }},
		textField("title", "Description of the lab, in a few words.", func(l *Lab) *string { return &l.Title }),
		networkField(
			"space",
			"The network that planned subnets are carved from, packed (default: a /16 of private space).",
			func(l *Lab) *netip.Prefix { return &l.Space },
		),
		boolField(
			"ipv6",
			"Whether inside segments get IPv6 unique local prefixes as well (RFC 4193).",
			func(l *Lab) *bool { return &l.IPv6 },
		),
		boolField(
			"closed",
			"Whether the lab has no path outside on purpose.",
			func(l *Lab) *bool { return &l.Closed },
		),
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
		namedField(
			"guests",
			"guest",
			"The guests, by name; a plain segment name is one adapter there with DHCP.",
			guestFields(),
			func(l *Lab, name string) *Guest {
				g := &Guest{Name: name, Running: true}
				l.Guests = append(l.Guests, g)
				return g
			},
			func(r *reader, n *yaml.Node, g *Guest) {
				if n.Value == later {
					g.open = append(g.open, question{"segment", "on which segment is it"})
					return
				}
				if v, ok := r.text(n, "a guest's segment"); ok {
					spot := Origin{
						Pos:   place(n),
						body:  place(n),
						short: "segment",
						keys:  []keySpot{{"segment", place(n), place(n)}},
					}
					g.body, g.short = spot.body, spot.short
					g.Adapters = []Adapter{{Segment: v, Plugged: true, Origin: spot}}
				}
			},
		),
		objectsField("accept", "Findings taken on purpose, each with its reason.", []field[Accept]{
			textField("code", "The finding's code.", func(a *Accept) *string { return &a.Code }),
			textField(
				"subject",
				"Whose finding (default: every one of that code).",
				func(a *Accept) *string { return &a.Subject },
			),
			textField("because", "Why it is right here.", func(a *Accept) *string { return &a.Because }),
		}, []string{"code", "because"}, func(l *Lab) *Accept {
			l.Accept = append(l.Accept, Accept{})
			return &l.Accept[len(l.Accept)-1]
		}),
		{
			"expect",
			"Sentences that must hold in addition to the standard checks: SOURCE reaches|never reaches DESTINATION [PROTO[/PORT[-PORT]]].",
			listOf(textShape),
			func(r *reader, n *yaml.Node, l *Lab) {
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
			},
		},
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
						r.fail(
							place(v),
							"an uplink is not %q%s; write wired or wireless",
							shorten(v.Value),
							didYouMean(v.Value, "wired", "wireless"),
						)
						return
					}
					s.Uplinks[k.Value] = v.Value
				})
			}},
		intField("cpus", "Processors.", 1, 4096, func(s *Site) *int { return &s.CPUs }),
		bytesField("memory", "Memory.", func(s *Site) *Bytes { return &s.Memory }),
		bytesField("disk", "Free disk space.", func(s *Site) *Bytes { return &s.Disk }),
		textField(
			"hypervisor",
			"The hypervisor's terms in the runbook: desktop, server, kernel, or a wording file relative to the lab file.",
			func(s *Site) *string { return &s.Hypervisor },
		),
		boolField("virtual", "Whether it is a virtual machine itself.", func(s *Site) *bool { return &s.Virtual }),
		boolField(
			"accelerated",
			"Whether it can accelerate virtual machines.",
			func(s *Site) *bool { return &s.Accelerated },
		),
	}
}

func segmentFields() []field[Segment] {
	return []field[Segment]{
		wordField(
			"reach",
			"How far the segment extends: upstream (beyond the host), host (the host has an interface on it), isolated (attached machines only).",
			func(s *Segment) *Reach { return &s.Reach },
			Upstream,
			Host,
			Isolated,
		).orLater("how far does it reach"),
		wordField(
			"kind",
			"The kind of network in the hypervisor, instead of reach, join, dhcp and host-forwards: bridged, translated, host-only or isolated.",
			func(s *Segment) *string { return &s.Kind },
			"bridged",
			"translated",
			"host-only",
			"isolated",
		),
		wordField("join", "Upstream only: bridged onto an uplink, or translated (nat) by the host.",
			func(s *Segment) *string { return &s.Join }, "bridged", "nat"),
		textField("known-as", "What the hypervisor calls it, letter by letter, where that is not its name here.",
			func(s *Segment) *string { return &s.KnownAs }),
		textField(
			"uplink",
			"Upstream: the host's adapter towards it. Isolated: the adapter with its switch and its physical machines.",
			func(s *Segment) *string { return &s.Uplink },
		).orLater("by which of the host's adapters"),
		intField("native", "With an uplink: the tag that travels untagged on its cable, 1 to 4094.", 1, 4094,
			func(s *Segment) *int { return &s.Native }),
		networkField("subnet", "The segment's network (default: planned).",
			func(s *Segment) *netip.Prefix { return &s.Subnet }).orLater("which network has it"),
		intField(
			"hosts",
			"How many machines the planned subnet must hold.",
			1,
			1<<20,
			func(s *Segment) *int { return &s.Hosts },
		),
		addrField(
			"gateway",
			"Upstream only: the router that is there.",
			func(s *Segment) *netip.Addr { return &s.Gateway },
		).
			orLater("which router is there"),
		listField(
			"routes",
			"Upstream only: ways back that its router has, each NETWORK via ADDRESS.",
			form{Type: "string",
				Pattern: `^[0-9.]+/[0-9.]+ via [0-9.]+$`},
			parseRoute,
			func(s *Segment) *[]Route { return &s.Routes },
		),
		poolField("Upstream only: the site's DHCP pool there, FIRST-LAST.",
			func(s *Segment) (from, to *netip.Addr) { return &s.PoolFrom, &s.PoolTo }),
		nameField(
			"dhcp",
			"Which DHCP server, other than the appliance, is on the segment: upstream, host, none, or a guest's name.",
			func(s *Segment) *string { return &s.Leases },
		).orLater("DHCP server there"),
		nameField(
			"within",
			"The segment whose cable carries this one, tagged.",
			func(s *Segment) *string { return &s.Within },
		),
		intField("vlan", "The tag, 1 to 4094 (IEEE 802.1Q).", 0, 65535, func(s *Segment) *int { return &s.VLAN }),
		wordField("foreign-macs", "Whether the switch forwards frames with MAC addresses that it did not assign.",
			func(s *Segment) *string { return &s.ForeignMACs }, "allow", "refuse"),
		hostField("host-address", "Reach host: the host's leg.",
			func(s *Segment) *netip.Prefix { return &s.HostAddress }).orLater("which address has the host there"),
		addrField(
			"host-gateway",
			"Reach host: the next hop that the host uses there for everything it has no nearer way to.",
			func(s *Segment) *netip.Addr { return &s.HostGateway },
		),
		boolField("host-forwards", "Reach host: whether the host routes or translates for the segment.",
			func(s *Segment) *bool { return &s.HostForwards }),
		boolField(
			"router-advertisements",
			"Whether IPv6 router advertisements are seen here from something that is not the appliance.",
			func(s *Segment) *bool { return &s.RouterAdvertisements },
		),
	}
}

func applianceFields() []field[Appliance] {
	return []field[Appliance]{
		wordField(
			"kind",
			"How the appliance is placed between its segments.",
			func(a *Appliance) *string { return &a.Kind },
			"routed",
			"transparent",
			"one-armed",
		),
		textField("profile", "File with the facts about this kind of appliance (default: the reference appliance).",
			func(a *Appliance) *string { return &a.Profile }),
		boolField("autostart", "Whether it comes up with the host.", func(a *Appliance) *bool { return &a.Autostart }),
		runningField(func(a *Appliance) *bool { return &a.Running }),
		listField(
			"admin-services",
			"Where it is managed, on each port with admin: true: SCHEME or SCHEME/PORT; https, http, ssh or telnet.",
			form{Type: "string", Pattern: `^(https|http|ssh|telnet)(/[0-9]+)?$`},
			parseAdminService,
			func(a *Appliance) *[]AdminService { return &a.AdminServices },
		),
		objectField(
			"image",
			"What it is installed from.",
			imageFields(),
			func(a *Appliance) *Image { return &a.Image },
		),
		objectField("machine", "How its virtual machine is made (default: planned).", machineFields(),
			func(a *Appliance) *Machine { return &a.Machine }),
		objectField(
			"needs",
			"What its image requires of the machine.",
			needsFields(),
			func(a *Appliance) *Needs { return &a.Needs },
		),
		listField(
			"duties",
			"Services in addition to routing; they decide its size.",
			form{Type: "string", Enum: duties},
			func(text string) (string, error) {
				if !slices.Contains(duties, text) {
					return "", fmt.Errorf(
						"%q is not a service%s; write %s",
						shorten(text),
						didYouMean(text, duties...),
						strings.Join(duties, ", "),
					)
				}
				return text, nil
			},
			func(a *Appliance) *[]string { return &a.Duties },
		),
		parsedField("throughput", "What it must pass, such as 100Mbit or 1Gbit; sizes follow.",
			form{Type: "string", Pattern: "^[0-9]+ ?[MG]bit$"}, parseRate, func(a *Appliance) *int { return &a.Mbits }),
		intField("tunnels", "Number of encrypted tunnels.", 1, 100_000, func(a *Appliance) *int { return &a.Tunnels }),
		objectsField(
			"ports",
			"Its interfaces, in adapter order.",
			portFields(),
			[]string{"role"},
			func(a *Appliance) *Port {
				p := &Port{Plugged: true}
				a.Ports = append(a.Ports, p)
				return p
			},
		),
		wordField(
			"filter",
			"Whether the appliance filters what it forwards: rules (default), or none for a plain router.",
			func(a *Appliance) *string { return &a.Filter },
			"rules",
			"none",
		),
		objectField("nat", "Address translation.", natFields(), func(a *Appliance) *NAT { return &a.NAT }),
		field[Appliance]{
			"rules",
			"Sentences, the first that matches decides: allow|deny|refuse PROTO[/PORT[-PORT]][,…] from SOURCE to DESTINATION [log].",
			listOf(textShape),
			func(r *reader, n *yaml.Node, a *Appliance) {
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
			},
		}.orLater(
			"which rules has it",
		),
	}
}
