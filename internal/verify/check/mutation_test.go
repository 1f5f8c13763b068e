package check

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
)

// object is a flow mapping of a lab file, with its keys in order.
type object struct {
	name string
	keys []string
	text map[string]string
}

func obj(name string, pairs ...string) *object {
	o := &object{name: name, text: map[string]string{}}
	for i := 0; i < len(pairs); i += 2 {
		o.set(pairs[i], pairs[i+1])
	}
	return o
}

func (o *object) set(key, text string) *object {
	if _, ok := o.text[key]; !ok {
		o.keys = append(o.keys, key)
	}
	o.text[key] = text
	return o
}

func (o *object) drop(key string) {
	delete(o.text, key)
	for i, k := range o.keys {
		if k == key {
			o.keys = append(o.keys[:i], o.keys[i+1:]...)
			return
		}
	}
}

func (o *object) String() string {
	var parts []string
	for _, k := range o.keys {
		parts = append(parts, k+": "+o.text[k])
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// sound is a lab without a finding, to make mistakes in: inside segment i has
// the subnet 10.83.(16 i).0/24, port pI at .1, a leasing guest gIa and a static
// guest gIb at .10, which may go outside; the first static guest is published.
type sound struct {
	site, image, needs, machine, gate, nat *object
	segments, ports, guests, publishes     []*object
	rules, expect, more                    []string
	n                                      int
}

func newSound(n int) *sound {
	s := &sound{
		n: n,
		site: obj(
			"site",
			"networks",
			"[203.0.113.0/24]",
			"uplinks",
			"{enp1: wired}",
			"cpus",
			"8",
			"memory",
			"512GiB",
			"disk",
			"4TiB",
		),
		image: obj("image"),
		needs: obj(
			"needs",
			"cpus",
			"1",
			"memory",
			"1GiB",
			"disk",
			"8GiB",
			"nics",
			"[virtio]",
			"disk-buses",
			"[virtio]",
		),
		machine: obj(
			"machine",
			"cpus",
			"2",
			"memory",
			"2GiB",
			"disk",
			"16GiB",
			"nic",
			"virtio",
			"disk-bus",
			"virtio",
			"boot",
			"[disk, media]",
		),
		gate: obj("gate", "profile", "reference", "autostart", "true"),
		nat:  obj("nat"),
	}
	s.segments = []*object{
		obj("road", "reach", "upstream", "uplink", "enp1", "subnet", "203.0.113.0/24", "gateway", "203.0.113.1"),
	}
	s.ports = []*object{obj("wan", "role", "wan", "name", "wan", "segment", "road", "mac", "'02:00:00:00:01:01'")}
	for i := 1; i <= n; i++ {
		name := fmt.Sprintf("s%d", i)
		s.segments = append(s.segments, obj(name, "reach", "isolated", "subnet", fmt.Sprintf("10.83.%d.0/24", 16*i)))
		s.ports = append(
			s.ports,
			obj(fmt.Sprintf("p%d", i), "role", "lan", "name", fmt.Sprintf("p%d", i), "segment", name, "address",
				fmt.Sprintf("10.83.%d.1/24", 16*i), "mac", fmt.Sprintf("'02:00:00:00:01:%02x'", i+1)),
		)
		s.guests = append(
			s.guests,
			obj(fmt.Sprintf("g%da", i), "segment", name),
			obj(
				fmt.Sprintf("g%db", i),
				"segment",
				name,
				"static",
				fmt.Sprintf("10.83.%d.10/24", 16*i),
				"gateway",
				fmt.Sprintf("10.83.%d.1", 16*i),
				"dns",
				fmt.Sprintf("[10.83.%d.1]", 16*i),
			),
		)
		s.rules = append(s.rules, "allow any from "+name+" to outside")
	}
	s.publishes = []*object{obj("", "port", "tcp/8443", "to", "g1b", "at", "tcp/443")}
	s.expect = []string{"s1 reaches outside"}
	return s
}

func (s *sound) String() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("bastion: 1\nlab: mudflat\nsite: %s\nsegments:", s.site)
	for _, o := range s.segments {
		line("  %s: %s", o.name, o)
	}
	line("appliances:\n  gate:\n    needs: %s\n    machine: %s\n    image: %s", s.needs, s.machine, s.image)
	for _, k := range s.gate.keys {
		line("    %s: %s", k, s.gate.text[k])
	}
	line("    ports:")
	for _, o := range s.ports {
		line("      - %s", o)
	}
	line("    nat:\n      publish:")
	for _, o := range s.publishes {
		line("        - %s", o)
	}
	for _, k := range s.nat.keys {
		line("      %s: %s", k, s.nat.text[k])
	}
	line("    rules:")
	for _, r := range s.rules {
		line("      - %s", r)
	}
	for _, m := range s.more {
		line("%s", m)
	}
	line("guests:")
	for _, o := range s.guests {
		line("  %s: %s", o.name, o)
	}
	line("expect:")
	for _, e := range s.expect {
		line("  - %s", e)
	}
	return b.String()
}

func (s *sound) seg(i int) *object     { return s.segments[i] }
func (s *sound) port(i int) *object    { return s.ports[i] }
func (s *sound) leasing(i int) *object { return s.guests[2*i-2] }
func (s *sound) static(i int) *object  { return s.guests[2*i-1] }
func addr(i, host int) string          { return fmt.Sprintf("10.83.%d.%d", 16*i, host) }
func (s *sound) newPort(o *object)     { s.ports = append(s.ports, o) }
func (s *sound) newSegment(o *object)  { s.segments = append(s.segments, o) }
func (s *sound) newGuest(o *object)    { s.guests = append(s.guests, o) }

// mistake is one kind: it is made at inside segment i (2 or more, so that the
// published guest is left alone) and gives whose finding it must be. also
// lists what cannot but follow from it.
type mistake struct {
	code string
	make func(s *sound, i int) (subject string)
	also []string
}

func name(kind string, i int, end string) string { return fmt.Sprintf("%s%d%s", kind, i, end) }

var mistakes = []mistake{
	{
		"no-wan",
		func(s *sound, i int) string { s.ports = s.ports[1:]; return "gate" },
		[]string{"unattached-port", "unpinned-order"},
	},
	{"sides-joined", func(s *sound, i int) string {
		s.newPort(
			obj(
				"",
				"role",
				"dmz",
				"name",
				"odd",
				"segment",
				name("s", i, ""),
				"address",
				addr(i, 2)+"/24",
				"mac",
				"'02:00:00:00:01:ee'",
			),
		)
		return "gate.odd"
	}, nil},
	{"dual-homed-guest", func(s *sound, i int) string {
		s.leasing(i).drop("segment")
		s.leasing(i).set("adapters", fmt.Sprintf("[{segment: s%d}, {segment: road}]", i))
		return name("g", i, "a")
	}, nil},
	{"dual-homed-guest", func(s *sound, i int) string {
		s.newSegment(obj("house", "reach", "host", "host-forwards", "true", "subnet", "10.99.1.0/24"))
		s.leasing(i).drop("segment")
		s.leasing(i).set("adapters", fmt.Sprintf("[{segment: s%d}, {segment: house, static: 10.99.1.9/24}]", i))
		return name("g", i, "a")
	}, []string{"no-gateway"}},
	{"host-forwards", func(s *sound, i int) string {
		s.seg(i).set("reach", "host").set("host-forwards", "true")
		return name("s", i, "")
	}, nil},
	{"host-forwards", func(s *sound, i int) string { s.seg(i).set("reach", "host"); return name("s", i, "") }, nil},
	{
		"host-forwards",
		func(s *sound, i int) string { s.seg(i).set("reach", "upstream"); return name("s", i, "") },
		[]string{"double-nat"},
	},
	{"no-gateway", func(s *sound, i int) string {
		s.newSegment(obj("attic", "reach", "isolated", "subnet", "10.99.1.0/24"))
		s.newGuest(obj("wader", "segment", "attic", "static", "10.99.1.9/24"))
		return "attic"
	}, nil},
	{"unattached-port", func(s *sound, i int) string {
		s.newSegment(obj("attic", "reach", "isolated", "subnet", "10.99.1.0/24"))
		return "attic"
	}, nil},
	{
		"unattached-port",
		func(s *sound, i int) string { s.port(i).set("plugged", "false"); return name("gate.p", i, "") },
		nil,
	},
	{
		"unattached-port",
		func(s *sound, i int) string { s.leasing(i).set("plugged", "false"); return name("g", i, "a") },
		nil,
	},
	{"duplicate-mac", func(s *sound, i int) string {
		s.leasing(i).set("mac", s.port(i).text["mac"])
		return name("g", i, "a")
	}, nil},
	{
		"duplicate-mac",
		func(s *sound, i int) string { s.leasing(i).set("mac", "'03:00:00:00:00:01'"); return name("g", i, "a") },
		nil,
	},
	{"unpinned-order", func(s *sound, i int) string { s.port(i).drop("mac"); return "gate" }, nil},
	{"no-nic-driver", func(s *sound, i int) string { s.machine.set("nic", "e1000"); return "gate" }, nil},
	{"no-disk-driver", func(s *sound, i int) string { s.machine.set("disk-bus", "ide"); return "gate" }, nil},
	{"vlan-clash", func(s *sound, i int) string {
		s.newSegment(
			obj("loft", "reach", "isolated", "within", name("s", i, ""), "vlan", "0", "subnet", "10.99.1.0/24"),
		)
		s.newPort(obj("", "role", "lan", "name", "loft", "segment", "loft", "over", name("p", i, "")))
		return "loft"
	}, nil},
	{"vlan-clash", func(s *sound, i int) string {
		for _, n := range []string{"loft", "roof"} {
			s.newSegment(obj(n, "reach", "isolated", "within", name("s", i, ""), "vlan", "7", "subnet",
				"10.99."+fmt.Sprint(len(n)+len(s.segments))+".0/24"))
			s.newPort(obj("", "role", "lan", "name", n, "segment", n, "over", name("p", i, "")))
		}
		return "roof"
	}, []string{"adjacent-subnets"}},
	{"vlan-not-carried", func(s *sound, i int) string {
		s.newSegment(
			obj("loft", "reach", "isolated", "within", name("s", i, ""), "vlan", "7", "subnet", "10.99.1.0/24"),
		)
		s.newGuest(obj("wader", "segment", "loft", "static", "10.99.1.9/24"))
		return "loft"
	}, nil},
	{
		"rogue-advertisements",
		func(s *sound, i int) string { s.seg(i).set("router-advertisements", "true"); return name("s", i, "") },
		nil,
	},
	{"shared-roles", func(s *sound, i int) string {
		s.newPort(
			obj("", "role", "manage", "name", "odd", "segment", name("s", i, ""), "address", addr(i, 2)+"/24", "mac",
				"'02:00:00:00:01:ee'"),
		)
		return "gate.odd"
	}, nil},
	{"twin-appliance", func(s *sound, i int) string {
		s.more = append(
			s.more,
			fmt.Sprintf(
				"  spare: {ports: [{role: wan, segment: road}, {role: lan, segment: s%d, dhcp: none, address: %s/24}]}",
				i,
				addr(i, 1),
			),
		)
		return "spare.lan"
	}, []string{"duplicate-address"}},
	{"twin-appliance", func(s *sound, i int) string {
		s.more = append(
			s.more,
			fmt.Sprintf("  spare: {ports: [{role: wan, segment: road}, {role: lan, segment: s%d, address: %s/24}]}", i,
				addr(i, 2)),
		)
		return "spare.lan"
	}, nil},
	{"overlap", func(s *sound, i int) string {
		s.seg(i).set("subnet", "10.83.16.0/24")
		s.port(i).drop("address")
		s.guests = append(s.guests[:2*i-1:2*i-1], s.guests[2*i:]...) // its static guest
		return name("s", i, "")
	}, []string{"shadowed-rule"}},
	{"site-overlap", func(s *sound, i int) string {
		s.site.set("networks", "[203.0.113.0/24, "+addr(i, 0)+"/23]")
		return name("s", i, "")
	}, nil},
	{
		"off-subnet",
		func(s *sound, i int) string { s.static(i).set("static", "10.99.9.9/24"); return name("g", i, "b") },
		nil,
	},
	{"off-subnet", func(s *sound, i int) string {
		s.seg(0).set("gateway", "198.51.100.1")
		return "road"
	}, nil},
	{
		"reserved-address",
		func(s *sound, i int) string { s.static(i).set("static", addr(i, 255)+"/24"); return name("g", i, "b") },
		nil,
	},
	{
		"reserved-address",
		func(s *sound, i int) string { s.leasing(i).set("reserve", addr(i, 0)); return name("g", i, "a") },
		nil,
	},
	{
		"narrow-mask",
		func(s *sound, i int) string { s.static(i).set("static", addr(i, 10)+"/25"); return name("g", i, "b") },
		nil,
	},
	{
		"narrow-mask",
		func(s *sound, i int) string { s.static(i).set("static", addr(i, 10)+"/16"); return name("g", i, "b") },
		nil,
	},
	{
		"duplicate-address",
		func(s *sound, i int) string { s.leasing(i).set("reserve", addr(i, 10)); return name("g", i, "b") },
		nil,
	},
	{
		"wrong-gateway",
		func(s *sound, i int) string { s.static(i).set("gateway", addr(i, 254)); return name("g", i, "b") },
		nil,
	},
	{
		"no-names",
		func(s *sound, i int) string { s.static(i).set("dns", "["+addr(i, 77)+"]"); return name("g", i, "b") },
		nil,
	},
	{
		"inside-gateway",
		func(s *sound, i int) string { s.port(i).set("gateway", addr(i, 9)); return name("gate.p", i, "") },
		nil,
	},
	{"wan-no-gateway", func(s *sound, i int) string {
		s.seg(0).drop("gateway")
		s.port(0).set("address", "203.0.113.7/24")
		return "gate.wan"
	}, nil},
	{"default-clash", func(s *sound, i int) string {
		s.site.set("networks", "[203.0.113.0/24, 192.168.77.0/24]")
		return "gate"
	}, nil},
	{"adjacent-subnets", func(s *sound, i int) string {
		s.newSegment(obj("attic", "reach", "isolated", "subnet", fmt.Sprintf("10.83.%d.0/24", 16*i+1)))
		s.newPort(obj("", "role", "lan", "name", "attic", "segment", "attic", "mac", "'02:00:00:00:01:ee'"))
		return "attic"
	}, nil},
	{"public-addresses-inside", func(s *sound, i int) string {
		s.newSegment(obj("attic", "reach", "isolated", "subnet", "198.51.100.0/24"))
		s.newPort(obj("", "role", "lan", "name", "attic", "segment", "attic", "mac", "'02:00:00:00:01:ee'"))
		return "attic"
	}, nil},
	{"tight-subnet", func(s *sound, i int) string {
		s.newSegment(obj("attic", "reach", "isolated", "subnet", "10.99.1.0/30"))
		s.newPort(obj("", "role", "lan", "name", "attic", "segment", "attic", "mac", "'02:00:00:00:01:ee'"))
		return "attic"
	}, nil},
	{"two-dhcp-servers", func(s *sound, i int) string {
		s.seg(i).set("reach", "host").set("dhcp", "host")
		return name("s", i, "")
	}, nil},
	{
		"two-dhcp-servers",
		func(s *sound, i int) string { s.seg(i).set("dhcp", "upstream"); return name("s", i, "") },
		nil,
	},
	{"no-dhcp-server", func(s *sound, i int) string { s.port(i).set("dhcp", "none"); return name("s", i, "") }, nil},
	{"pool-outside", func(s *sound, i int) string {
		s.port(i).set("dhcp", "{pool: 10.99.1.50-10.99.1.60}")
		return name("gate.p", i, "")
	}, nil},
	{"pool-outside", func(s *sound, i int) string {
		s.port(i).set("dhcp", fmt.Sprintf("{pool: %s-%s}", addr(i, 99), addr(i, 50)))
		return name("gate.p", i, "")
	}, nil},
	{"pool-overlap", func(s *sound, i int) string {
		s.port(i).set("dhcp", fmt.Sprintf("{pool: %s-%s}", addr(i, 1), addr(i, 9)))
		return name("gate.p", i, "")
	}, nil},
	{"pool-overlap", func(s *sound, i int) string {
		s.port(i).set("dhcp", fmt.Sprintf("{pool: %s-%s}", addr(i, 5), addr(i, 99)))
		return name("gate.p", i, "")
	}, nil},
	{"small-pool", func(s *sound, i int) string {
		s.port(i).set("dhcp", fmt.Sprintf("{pool: %s-%s}", addr(i, 50), addr(i, 50)))
		s.newGuest(obj("wader", "segment", name("s", i, "")))
		return name("gate.p", i, "")
	}, nil},
	{
		"reservation-outside",
		func(s *sound, i int) string { s.leasing(i).set("reserve", "10.99.1.9"); return name("g", i, "a") },
		nil,
	},
	{"dhcp-without-gateway", func(s *sound, i int) string {
		s.port(i).set("dhcp", "{dns: ["+addr(i, 250)+"]}")
		return name("gate.p", i, "")
	}, nil},
	{"no-nat", func(s *sound, i int) string {
		var rest []string
		for j := 1; j <= s.n; j++ {
			if j != i {
				rest = append(rest, name("s", j, ""))
			}
		}
		s.nat.set("masquerade", "["+strings.Join(rest, ", ")+"]")
		return name("s", i, "")
	}, nil},
	{"no-path-outside", func(s *sound, i int) string {
		s.rules[i-1] = "deny any from " + name("s", i, "") + " to outside"
		s.expect = append(s.expect, name("g", i, "a")+" reaches outside")
		return name("g", i, "a")
	}, nil},
	{"private-wan-blocked", func(s *sound, i int) string {
		s.seg(0).set("subnet", "172.29.64.0/24").set("gateway", "172.29.64.1")
		s.port(0).set("drop-private", "true")
		return "gate.wan"
	}, []string{"double-nat"}},
	{"double-nat", func(s *sound, i int) string {
		s.seg(0).set("subnet", "172.29.64.0/24").set("gateway", "172.29.64.1")
		return "gate.wan"
	}, nil},
	{"forward-to-changing-address", func(s *sound, i int) string {
		s.publishes = append(s.publishes, obj("", "port", "tcp/9000", "to", name("g", i, "a")))
		return name("g", i, "a")
	}, nil},
	{"forward-clash", func(s *sound, i int) string {
		s.publishes = append(s.publishes, obj("", "port", "tcp/8443", "to", name("g", i, "b")))
		return name("g", i, "b")
	}, nil},
	{"forward-denied", func(s *sound, i int) string {
		s.publishes = append(s.publishes, obj("", "port", "tcp/9000", "to", name("g", i, "b")))
		s.rules = append([]string{"deny tcp/9000 from outside to " + name("s", i, "")}, s.rules...)
		return name("g", i, "b")
	}, nil},
	{"admin-outside", func(s *sound, i int) string { s.port(0).set("admin", "tcp/4443"); return "gate.wan" }, nil},
	{
		"plain-admin",
		func(s *sound, i int) string { s.port(i).set("admin", "tcp/80"); return name("gate.p", i, "") },
		nil,
	},
	{"open-inbound", func(s *sound, i int) string {
		s.rules = append(s.rules, "allow tcp from any to "+name("s", i, ""))
		return fmt.Sprintf("gate rule %d", s.n+1)
	}, nil},
	{"shadowed-rule", func(s *sound, i int) string {
		s.rules = append(s.rules, "deny tcp/25 from "+name("s", i, "")+" to outside")
		return fmt.Sprintf("gate rule %d", s.n+1)
	}, nil},
	{"shadowed-rule", func(s *sound, i int) string { // only two together cover it
		s.rules = append(s.rules, "refuse udp from s1,"+name("s", i, "")+" to outside")
		return fmt.Sprintf("gate rule %d", s.n+1)
	}, nil},
	{"unreachable-expectation", func(s *sound, i int) string {
		s.expect = append(s.expect, name("g", i, "a")+" reaches s1 tcp/22")
		return name("g", i, "a") + " reaches s1 tcp/22"
	}, nil},
	{"unreachable-expectation", func(s *sound, i int) string {
		s.expect = append(s.expect, name("s", i, "")+" never reaches outside udp/53")
		return name("s", i, "") + " never reaches outside udp/53"
	}, nil},
	{"boots-media", func(s *sound, i int) string { s.machine.set("boot", "[media, disk]"); return "gate" }, nil},
	{"undersized", func(s *sound, i int) string { s.needs.set("memory", "4GiB"); return "gate" }, nil},
	{"undersized", func(s *sound, i int) string { s.needs.set("cpus", "3"); return "gate" }, nil},
	{"shrinking-memory", func(s *sound, i int) string { s.machine.set("memory-floor", "1GiB"); return "gate" }, nil},
	{"host-full", func(s *sound, i int) string { s.site.set("memory", "3GiB"); return "site" }, nil},
	{"host-full", func(s *sound, i int) string { s.machine.set("cpus", "9"); return "gate" }, []string{"oversized"}},
	{"oversized", func(s *sound, i int) string { s.machine.set("memory", "64GiB"); return "gate" }, nil},
	{
		"underpowered",
		func(s *sound, i int) string { s.gate.set("duties", "[intrusion-detection]"); return "gate" },
		nil,
	},
	{"underpowered", func(s *sound, i int) string { s.gate.set("tunnels", "400"); return "gate" }, nil},
	{"odd-size", func(s *sound, i int) string {
		s.leasing(i).set("machine", "{memory: 1030MiB}")
		return name("g", i, "a")
	}, nil},
	{
		"odd-size",
		func(s *sound, i int) string { s.leasing(i).set("machine", "{memory: 2MiB}"); return name("g", i, "a") },
		nil,
	},
	{"too-many-queues", func(s *sound, i int) string { s.machine.set("queues", "3"); return "gate" }, nil},
	{"over-licence", func(s *sound, i int) string { s.image.set("allows", "{cpus: 1}"); return "gate" }, nil},
	{
		"odd-admin",
		func(s *sound, i int) string { s.port(i).set("admin", "tcp/4443"); return name("gate.p", i, "") },
		nil,
	},
	{
		"plain-admin",
		func(s *sound, i int) string { s.gate.set("admin-services", "[https, telnet]"); return "gate.p1" },
		nil,
	},
	{"unknown-uplink", func(s *sound, i int) string { s.seg(i).set("uplink", "enp9"); return name("s", i, "") }, nil},
	{"no-cable", func(s *sound, i int) string { s.leasing(i).set("physical", "true"); return name("g", i, "a") }, nil},
	{
		"needless-relaxation",
		func(s *sound, i int) string { s.seg(i).set("foreign-macs", "allow"); return name("s", i, "") },
		nil,
	},
	{"nested-bridge", func(s *sound, i int) string { s.site.set("virtual", "true"); return "road" }, nil},
	{"public-domain-inside", func(s *sound, i int) string {
		s.port(i).set("dhcp", "{domain: lab.local}")
		return name("gate.p", i, "")
	}, nil},
	{"public-domain-inside", func(s *sound, i int) string {
		s.port(i).set("dhcp", "{domain: fen.co.uk}")
		return name("gate.p", i, "")
	}, nil},
	{"host-behind", func(s *sound, i int) string {
		s.seg(i).set("reach", "host").set("host-gateway", fmt.Sprintf("10.83.%d.1", 16*i))
		return name("s", i, "")
	}, []string{"host-forwards"}},
	{"wrong-return-route", func(s *sound, i int) string {
		s.seg(0).set("routes", "[10.83.16.0/24 via 203.0.113.99]")
		return "road"
	}, nil},
	{"no-dhcp-yet", func(s *sound, i int) string {
		s.seg(i).set("dhcp", name("g", i, "b"))
		s.guests = append(s.guests, obj("lender", "segment", name("s", i, ""), "running", "false"))
		s.seg(i).set("dhcp", "lender")
		return name("s", i, "")
	}, []string{"switched-off"}},
	{
		"open-question",
		func(s *sound, i int) string { s.seg(i).set("subnet", "later"); return "segment " + name("s", i, "") },
		[]string{"off-subnet"},
	},
	{
		"open-question",
		func(s *sound, i int) string { s.port(0).set("segment", "later"); return "port wan of gate" },
		[]string{"unattached-port"},
	},
	{
		"open-question",
		func(s *sound, i int) string { s.leasing(i).drop("segment"); return "guest " + name("g", i, "a") },
		nil,
	},
	{"licence-expiring", func(s *sound, i int) string {
		s.image.set("evaluation", "{from: 2026-10-27, days: 20}")
		return "gate"
	}, nil},
	{"late-appliance", func(s *sound, i int) string {
		s.gate.set("autostart", "false")
		s.leasing(i).set("autostart", "true")
		return "gate"
	}, nil},
	{"wireless-bridge", func(s *sound, i int) string { s.site.set("uplinks", "{enp1: wireless}"); return "road" }, nil},
	{"no-accelerator", func(s *sound, i int) string { s.site.set("accelerated", "false"); return "site" }, nil},
}

// TestMain keeps the planting of mistakes short; -rapid.checks=100 plants as
// many of each kind.
func TestMain(m *testing.M) {
	flag.Parse()
	given := false
	flag.Visit(func(f *flag.Flag) { given = given || f.Name == "rapid.checks" })
	if !given {
		_ = flag.Set("rapid.checks", "8")
	}
	os.Exit(m.Run())
}

// One mistake at a random place of a sound lab of any size is named, with
// whose it is, and nobody else is accused.
func TestMistakesAreNamed(t *testing.T) {
	for k, m := range mistakes {
		t.Run(fmt.Sprintf("%d-%s", k, m.code), func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				s := newSound(rapid.IntRange(2, 9).Draw(t, "segments"))
				require.Empty(t, findings(t, s.String(), "2026-11-12"), "the lab is sound")
				i := rapid.IntRange(2, s.n).Draw(t, "at")
				subject := m.make(s, i)
				hit := false
				for _, f := range findings(t, s.String(), "2026-11-12") {
					hit = hit || f.Code == m.code && f.Subject == subject
					also := false
					for _, c := range m.also {
						also = also || f.Code == c
					}
					require.True(
						t,
						also || f.Code == m.code && f.Subject == subject,
						"%s of %s: %s",
						f.Code,
						f.Subject,
						f.Message,
					)
				}
				require.True(t, hit, "%s of %s is not found:\n%s", m.code, subject, s)
			})
		})
	}
	codes := map[string]bool{}
	for _, m := range mistakes {
		codes[m.code] = true
	}
	t.Logf("%d kinds of mistakes, %d codes", len(mistakes), len(codes))
}

// Many mistakes at once crash nothing: each lab is checked, pinned and, where
// that is possible, rehearsed.
func TestManyMistakes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := newSound(rapid.IntRange(3, 6).Draw(t, "segments"))
		for range rapid.IntRange(2, 8).Draw(t, "mistakes") {
			i := rapid.IntRange(2, 3).Draw(t, "at")
			if len(s.guests) < 2*s.n || len(s.ports) <= s.n {
				break // a guest or port that the next mistake is made at is gone
			}
			rapid.SampledFrom(mistakes).Draw(t, "mistake").make(s, i)
		}
		l, err := lab.Read("lab.yaml", []byte(s.String()))
		if err != nil {
			return // two mistakes can make a file that is none
		}
		p, err := plan.Build(l)
		if err != nil {
			return
		}
		Run(p, time.Time{})
		p.Document()
		pinned, _ := p.Pin([]byte(s.String()))
		_, err = lab.Read("pinned.yaml", pinned)
		require.NoError(t, err, string(pinned))
		simulator.New(p).Outcome()
	})
}

// What `bastion new` writes has no error, in every shape and size.
func TestDraftsHaveNoError(t *testing.T) {
	for _, shape := range draft.Shapes {
		for _, guests := range []int{1, 3, 40} {
			data, err := draft.Write(
				draft.Options{Lab: "mudflat", Shape: shape.Name, Guests: guests, Benches: 1 + guests, Uplink: "enp1"},
			)
			require.NoError(t, err)
			for _, f := range findings(t, string(data), "") {
				assert.NotEqual(
					t,
					Error,
					f.Severity,
					"%s with %d guests: %s of %s: %s",
					shape.Name,
					guests,
					f.Code,
					f.Subject,
					f.Message,
				)
			}
		}
	}
}
