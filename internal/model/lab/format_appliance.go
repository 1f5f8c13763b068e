package lab

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/subnet"
)

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
		parsedField(
			"sha256",
			"Its SHA-256 digest, in hexadecimal.",
			form{Type: "string", Pattern: "^[0-9a-fA-F]{64}$"},
			parseDigest,
			func(i *Image) *string { return &i.SHA256 },
		),
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
			parsedField(
				"throughput",
				"What it passes, such as 100Mbit or 1Gbit.",
				form{
					Type:    "string",
					Pattern: "^[0-9]+ ?[MG]bit$",
				},
				parseRate,
				func(l *Licence) *int { return &l.Mbits },
			),
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
		textField(
			"disk-bus",
			"How the disk is attached, such as virtio, scsi, sata or ide.",
			func(m *Machine) *string { return &m.DiskBus },
		),
		textField("nic", "Adapter model, such as virtio or e1000.", func(m *Machine) *string { return &m.NIC }),
		intField(
			"queues",
			"Queues of each adapter: one for each processor, and no more.",
			1,
			256,
			func(m *Machine) *int { return &m.Queues },
		),
		wordField("firmware", "How it boots.", func(m *Machine) *string { return &m.Firmware }, "bios", "uefi"),
		listField(
			"boot",
			"Boot order: disk, media, network.",
			form{Type: "string", Enum: []string{"disk", "media", "network"}},
			func(text string) (string, error) {
				switch text {
				case "disk", "media", "network":
					return text, nil
				}
				return "", fmt.Errorf("%q cannot be booted from%s; write disk, media or network", shorten(text),
					didYouMean(text, "disk", "media", "network"))
			},
			func(m *Machine) *[]string { return &m.Boot },
		),
		textField("media", "Installation medium in the drive.", func(m *Machine) *string { return &m.Media }),
	}
}

func needsFields() []field[Needs] {
	return []field[Needs]{
		intField("cpus", "Fewest processors.", 1, 1024, func(n *Needs) *int { return &n.CPUs }),
		bytesField("memory", "Least memory.", func(n *Needs) *Bytes { return &n.Memory }),
		bytesField("disk", "Smallest disk.", func(n *Needs) *Bytes { return &n.Disk }),
		listField(
			"nics",
			"Adapter models it has drivers for.",
			textShape,
			plain,
			func(n *Needs) *[]string { return &n.NICs },
		),
		listField(
			"disk-buses",
			"Disk buses it has drivers for.",
			textShape,
			plain,
			func(n *Needs) *[]string { return &n.DiskBuses },
		),
	}
}

func portFields() []field[Port] {
	return []field[Port]{
		wordField("role", "The port's role.", func(p *Port) *Role { return &p.Role }, WAN, LAN, DMZ, Manage,
			Unused).orLater("which side is it"),
		{"name", "The port's name (default: its role).", nameShape,
			func(r *reader, n *yaml.Node, p *Port) { p.Name, _ = r.name(n, "a port's name") }},
		nameField(
			"segment",
			"The segment it is on.",
			func(p *Port) *string { return &p.Segment },
		).orLater("on which segment is it"),
		nameField("over", "The port whose adapter carries this one, tagged.", func(p *Port) *string { return &p.Over }),
		nameField("joins", "The port that this one is bridged with: both are one inside segment on purpose.",
			func(p *Port) *string { return &p.Joins }),
		parsedField(
			"address",
			"dhcp, pppoe, none, or an address with its prefix length (default: planned).",
			textShape,
			parsePortAddress,
			func(p *Port) *Address { return &p.Address },
		).orLater("how does it get its address"),
		addrField(
			"gateway",
			"With a static WAN address: the next hop.",
			func(p *Port) *netip.Addr { return &p.Gateway },
		).
			orLater("which next hop"),
		macField(func(p *Port) *mac.Address { return &p.MAC }),
		textField("device", "What the appliance's system calls the interface, once its console has shown it.",
			func(p *Port) *string { return &p.Device }),
		boolField("plugged", "Whether the adapter is connected.", func(p *Port) *bool { return &p.Plugged }),
		wordField(
			"connect",
			"When it is connected: from the first start on, or only later, once the appliance is set up.",
			func(p *Port) *string { return &p.Connect },
			"now",
			later,
		),
		boolField(
			"drop-private",
			"Drop packets from private sources that arrive here.",
			func(p *Port) *bool { return &p.DropPrivate },
		),
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
			form{
				OneOf: []form{
					{Type: "string", Enum: []string{"none"}},
					{Type: "object", Properties: properties(leaseFields())},
				},
			},
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
		listField(
			"dns",
			"DNS servers in leases: addresses, or self for the appliance.",
			textShape,
			func(text string) (string, error) {
				if text == "self" {
					return text, nil
				}
				a, err := subnet.ParseAddr(text)
				return a.String(), err
			},
			func(l *PortLeases) *[]string { return &l.DNS },
		),
		parsedField(
			"domain",
			"Domain in leases.",
			textShape,
			parseDomain,
			func(l *PortLeases) *string { return &l.Domain },
		),
		parsedField(
			"time",
			"Lease time, such as 8h.",
			textShape,
			parseSpan,
			func(l *PortLeases) *time.Duration { return &l.Time },
		),
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
		return Address{}, fmt.Errorf(
			"%q is not an address setting%s; write dhcp, pppoe, none or ADDRESS/LENGTH",
			shorten(text),
			didYouMean(text, "dhcp", "pppoe", "none"),
		)
	}
	p, err := parseHost(text)
	return Address{How: "static", Prefix: p}, err
}

func natFields() []field[NAT] {
	return []field[NAT]{
		{
			"masquerade",
			"Segments whose source addresses are translated to the WAN address (default: every lan and dmz segment).",
			listOf(nameShape),
			func(r *reader, n *yaml.Node, t *NAT) {
				t.Masquerade = []string{}
				r.items(n, func(n *yaml.Node) {
					if v, ok := r.text(n, "masquerade"); ok {
						t.Masquerade = append(t.Masquerade, v)
					}
				})
			},
		},
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
		nameField(
			"segment",
			"The segment the adapter is on.",
			func(a *Adapter) *string { return &a.Segment },
		).orLater("on which segment is it"),
		addrField(
			"reserve",
			"A reserved address.",
			func(a *Adapter) *netip.Addr { return &a.Reserve },
		).orLater("which address is reserved for it"),
		hostField("static", "An address set on the guest, with its prefix length.",
			func(a *Adapter) *netip.Prefix { return &a.Static }).orLater("which address is static"),
		addrField(
			"gateway",
			"With static: the next hop set on the guest.",
			func(a *Adapter) *netip.Addr { return &a.Gateway },
		),
		listField("dns", "With static: DNS servers set on the guest.", addrShape, subnet.ParseAddr,
			func(a *Adapter) *[]netip.Addr { return &a.DNS }),
		macField(func(a *Adapter) *mac.Address { return &a.MAC }),
		textField(
			"device",
			"What the guest's system calls the interface, once it has been seen.",
			func(a *Adapter) *string { return &a.Device },
		),
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
	return append(
		list,
		objectsField("adapters", "The adapters, in order, for a guest with several.", adapterFields(), nil,
			func(g *Guest) *Adapter {
				g.Adapters = append(g.Adapters, Adapter{Plugged: true})
				return &g.Adapters[len(g.Adapters)-1]
			}),
		boolField(
			"forwards",
			"Whether the guest passes packets on between its adapters.",
			func(g *Guest) *bool { return &g.Forwards },
		),
		boolField("outside", "Whether the guest is outside every appliance on purpose: an attacker, an admin machine.",
			func(g *Guest) *bool { return &g.Outside }),
		boolField("autostart", "Whether it comes up with the host.", func(g *Guest) *bool { return &g.Autostart }),
		runningField(func(g *Guest) *bool { return &g.Running }),
		boolField(
			"physical",
			"Whether it is a physical computer, not a virtual machine.",
			func(g *Guest) *bool { return &g.Physical },
		),
		wordField(
			"system",
			"The family of its system, for device names and tests.",
			func(g *Guest) *string { return &g.System },
			"linux",
			"bsd",
			"desktop",
		),
		objectField("machine", "How its virtual machine is made (default: planned).", machineFields(),
			func(g *Guest) *Machine { return &g.Machine }),
	)
}
