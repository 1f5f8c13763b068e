package openbastion

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/export"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/identify"
	"openbastion/internal/render/diagram"
	"openbastion/internal/render/report"
	"openbastion/internal/render/runbook"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/verdict"
	"openbastion/profiles"
)

// labMaker makes lab files from bytes: every key of the schema may come, with
// values that are mostly good, and nothing else decides.
type labMaker struct {
	bytes   []byte
	out     strings.Builder
	without []string // keys that do not go with what was chosen
}

func (m *labMaker) next() int {
	if len(m.bytes) == 0 {
		return 0
	}
	b := m.bytes[0]
	m.bytes = m.bytes[1:]
	return int(b)
}

func (m *labMaker) pick(list ...string) string { return list[m.next()%len(list)] }

var (
	segments = []string{"s1", "s2", "s3", "s4", "s5"}
	machines = []string{"a1", "a2", "g1", "g2", "g3", "g4"}
	hosts    = []string{"1", "2", "5", "10", "20", "50", "199", "254", "0", "255"}
)

func (m *labMaker) address() string {
	return m.pick("10.83.16.", "10.83.17.", "172.29.64.", "10.83.16.", "203.0.113.") + m.pick(hosts...)
}

// values returns a value for a key by its name; empty: by its form.
func (m *labMaker) value(key string) string {
	who := func() string {
		return m.pick(
			append(
				[]string{"any", "outside", "10.83.16.0/24", "10.83.16.20", "fd00::/8"},
				append(segments, machines...)...)...)
	}
	service := func() string {
		return m.pick("any", "icmp", "tcp", "udp", "tcp/80", "tcp/443,udp/53", "tcp/1000-2000", "udp/7")
	}
	switch key {
	case "segment", "within":
		return m.pick(segments...)
	case "subnet", "space":
		return m.pick(
			"10.83.16.0/24",
			"10.83.17.0/24",
			"172.29.64.0/24",
			"10.83.0.0/16",
			"203.0.113.0/24",
			"10.83.16.0/30",
			"10.83.18.0/31",
		)
	case "host-address", "static":
		return m.address() + m.pick("/24", "/24", "/16", "/32", "/31")
	case "gateway", "reserve", "outside", "host-gateway":
		return m.address()
	case "address":
		return m.pick("dhcp", "pppoe", "none", m.address()+"/24")
	case "pool":
		return m.address() + "-" + m.address()
	case "to", "inside":
		return m.pick(machines[2:]...)
	case "port", "at":
		return m.pick("tcp/80", "tcp/443", "udp/53", "udp/7", "tcp/8443")
	case "mac":
		return "'" + m.pick("02:00:00:00:00:01", "02:00:00:00:00:02", "01:00:5e:00:00:01", "02-5b-00-00-00-07") + "'"
	case "over", "joins":
		return m.pick("wan", "lan")
	case "profile":
		return m.pick(profiles.Names()...)
	case "rules":
		return fmt.Sprintf(
			"[%s %s from %s to %s, allow any from %s to outside]",
			m.pick("allow", "deny", "refuse"),
			service(),
			who(),
			who(),
			m.pick(segments...),
		)
	case "expect":
		return fmt.Sprintf(
			"[%s %s %s %s]",
			who(),
			m.pick("reaches", "never reaches"),
			who(),
			m.pick("", "tcp/80", "icmp", "udp"),
		)
	case "masquerade":
		return "[" + m.pick(segments...) + "]"
	case "dns":
		return "[" + m.pick("10.83.16.1", "9.9.9.9") + "]"
	case "admin":
		return m.pick("true", "false", "tcp/8443")
	case "memory", "memory-floor", "disk":
		return m.pick("1GiB", "512MiB", "8GiB", "100GiB")
	case "boot":
		return "[disk, media]"
	case "nic", "nics", "disk-bus", "disk-buses":
		return m.pick("virtio", "e1000", "sata", "odd")
	case "accept":
		return "[{code: double-nat, because: it is so}]"
	case "duties":
		return m.pick("filter", "vpn", "proxy")
	case "networks":
		return "[" + m.pick("192.168.77.0/24", "10.83.16.0/24", "10.0.0.0/8") + "]"
	case "uplinks":
		return "{enp1: wired, wlp2: wireless}"
	case "uplink":
		return m.pick("enp1", "wlp2")
	case "sha256":
		return strings.Repeat("ab", 32)
	case "routes":
		return "[" + m.pick("10.83.16.0/24", "10.83.17.0/24") + " via " + m.address() + "]"
	case "admin-services":
		return "[" + m.pick(
			"https",
			"https/8443",
			"http",
			"ssh",
			"telnet/2323",
		) + ", " + m.pick(
			"ssh",
			"ssh/2222",
		) + "]"
	case "running", "physical", "virtual":
		return m.pick("true", "true", "true", "false")
	case "throughput":
		return "2Gbit"
	case "time":
		return m.pick("8h", "90s")
	case "from":
		return "2026-11-20"
	case "domain":
		return "lab.example"
	}
	return ""
}

// object writes the keys of a schema's object, as a flow mapping; must come those
// that are named.
func (m *labMaker) object(schema map[string]any, must ...string) string {
	properties, _ := schema["properties"].(map[string]any)
	var parts []string
	for _, key := range slices.Sorted(maps.Keys(properties)) {
		if slices.Contains(m.without, key) || key != "role" && !slices.Contains(must, key) && m.next()%5 != 1 {
			continue
		}
		if v := m.of(key, properties[key].(map[string]any)); v != "" {
			parts = append(parts, key+": "+v)
		}
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// of returns a value for a key with a schema.
func (m *labMaker) of(key string, s map[string]any) string {
	if key == "dhcp" && s["anyOf"] == nil { // of a segment
		return m.pick("upstream", "host", "none", "g1")
	}
	if list, ok := s["anyOf"].([]any); ok && key != "dns" {
		if last := list[len(list)-1].(map[string]any); last["const"] != nil { // what may be decided later
			if m.next()%12 == 1 {
				return last["const"].(string)
			}
			return m.of(key, list[0].(map[string]any))
		}
		if one := list[m.next()%len(list)].(map[string]any); one["properties"] != nil {
			return m.object(one)
		} else if key == "dhcp" {
			return "none"
		}
	}
	if v := m.value(key); v != "" {
		return v
	}
	if words, ok := s["enum"].([]string); ok {
		return m.pick(words...)
	}
	switch s["type"] {
	case "boolean":
		return m.pick("true", "false")
	case "integer":
		return fmt.Sprint(1 + m.next()%60)
	case "string":
		return m.pick("x1", "y2")
	case "object":
		return m.object(s)
	case "array":
		item, _ := s["items"].(map[string]any)
		var list []string
		for range 1 + m.next()%2 {
			list = append(list, m.of("", item))
		}
		return "[" + strings.Join(list, ", ") + "]"
	}
	return ""
}

// lab writes a whole lab file.
func (m *labMaker) lab() []byte {
	schema := lab.Schema()
	properties := schema["properties"].(map[string]any)
	item := func(key string) map[string]any {
		values := properties[key].(map[string]any)["additionalProperties"].(map[string]any)
		if list, ok := values["anyOf"].([]any); ok {
			return list[len(list)-1].(map[string]any)
		}
		return values
	}
	fmt.Fprintf(&m.out, "bastion: 1\nlab: made\n")
	for _, key := range []string{"ipv6", "closed", "site", "expect", "accept"} {
		if m.next()%4 == 1 {
			if v := m.of(key, properties[key].(map[string]any)); v != "" {
				fmt.Fprintf(&m.out, "%s: %s\n", key, v)
			}
		}
	}
	m.out.WriteString("segments:\n")
	for i, s := range segments {
		reach := m.pick("isolated", "isolated", "host", "upstream")
		if i == 0 {
			reach = "upstream"
		}
		m.without = map[string][]string{
			"upstream": {"reach", "kind", "host-address", "host-forwards", "host-gateway", "router-advertisements", "native", "pool"},
			"host":     {"reach", "kind", "join", "uplink", "gateway", "native", "pool", "routes"},
			"isolated": {"reach", "kind", "join", "gateway", "host-address", "host-forwards", "host-gateway", "native", "pool", "routes"},
		}[reach]
		if m.next()%16 == 1 && i > 0 {
			reach = "later"
		}
		tag := ""
		if m.without = append(m.without, "within", "vlan"); i > 1 && m.next()%4 == 1 {
			tag = fmt.Sprintf(", within: %s, vlan: %d", segments[i-1], 40+i)
		}
		fmt.Fprintf(
			&m.out,
			"  %s: {reach: %s%s, %s\n",
			s,
			reach,
			tag,
			strings.TrimPrefix(m.object(item("segments")), "{"),
		)
	}
	m.without = nil
	m.out.WriteString("appliances:\n")
	port := item("appliances")["properties"].(map[string]any)["ports"].(map[string]any)["items"].(map[string]any)
	for _, a := range machines[:1+m.next()%2] {
		ports := "[{role: wan, segment: s1}, {role: lan, segment: s2}"
		for i := range m.next() % 3 {
			m.without = []string{"name", []string{"over", "joins", "mac"}[m.next()%3]}
			ports += ", " + strings.Replace(m.object(port, "segment"), "{", fmt.Sprintf("{name: p%d, ", i), 1)
		}
		m.without = []string{"ports", m.pick("filter", "rules")}
		fmt.Fprintf(&m.out, "  %s: {ports: %s], %s\n", a, ports, strings.TrimPrefix(m.object(item("appliances")), "{"))
		m.without = nil
	}
	m.out.WriteString("guests:\n")
	for _, g := range machines[2:] {
		if m.next()%2 == 0 {
			fmt.Fprintf(&m.out, "  %s: %s\n", g, m.pick(segments...))
		} else {
			m.without = []string{"adapters", "static"}
			if m.next()%2 == 0 {
				m.without = []string{"adapters", "reserve"}
			}
			text := m.object(item("guests"), "segment")
			if m.next()%3 == 1 {
				m.without = nil
				text = fmt.Sprintf("{adapters: [{segment: %s}, {segment: %s}], forwards: %s}", m.pick(segments...), m.pick(segments...),
					m.pick("true", "false"))
			}
			fmt.Fprintf(&m.out, "  %s: %s\n", g, text)
		}
	}
	return []byte(m.out.String())
}

// tryEverything runs every command's core on a lab file. Nothing may panic, or
// go on for ever; a lab that cannot be read or planned says so.
func tryEverything(t *testing.T, text []byte) bool {
	l, err := lab.Read("lab.yaml", text)
	if err != nil {
		assert.NotEmpty(t, err.Error())
		return false
	}
	l.Profiles = map[string]*lab.Profile{}
	for _, a := range l.Appliances {
		name := a.Profile
		if name == "" {
			name = profiles.Default
		}
		if data, ok := profiles.Profile(name); ok {
			profile, err := lab.ReadProfile(name, data)
			require.NoError(t, err)
			l.Profiles[a.Profile] = profile
		}
	}
	p, err := plan.Build(l)
	if err != nil {
		return false
	}
	p.Document()
	findings := check.Run(p, time.Time{})
	edited(t, p, text, findings)
	rehearsal := func() *simulator.Lab {
		l := simulator.New(p)
		l.World().Budget = 60_000 // a lab whose frames go round for ever is ended soon
		return l
	}
	r := rehearsal()
	doc := verdict.Finish(p, r.Outcome())
	report.Markdown(p, doc)
	var b bytes.Buffer
	require.NoError(t, diagram.Of(p, diagram.Options{Verdict: &doc}).SVG(&b, diagram.Light))
	diagram.Text(p, diagram.Options{}, 80)
	words, _ := profiles.Wording("desktop")
	w, err := lab.ReadWording("desktop", words)
	require.NoError(t, err)
	runbook.Of(p, w).Text(80)
	for _, k := range export.Kinds() {
		_, _ = k.Files(p)
	}
	for _, g := range p.Guests()[:min(2, len(p.Guests()))] {
		rehearsal().Trace(g.Adapters[0], nil, lab.Service{Proto: lab.TCP, From: 443, To: 443})
		rehearsal().Trace(nil, g.Adapters[0], lab.Service{Proto: lab.ICMP})
	}
	return true
}

// edited has every writer of lab files at the text: what each leaves is a lab
// file, and pinning the plan does not change the plan.
func edited(t *testing.T, p *plan.Plan, text []byte, findings []check.Finding) {
	addresses := map[*plan.Adapter]plan.Real{}
	for i, a := range p.Adapters {
		if a.Over == nil {
			addresses[a] = plan.Real{
				MAC:    mac.Address{2, 9, 9, 9, byte(i >> 8), byte(i)},
				Device: []string{"em0", "it's \"1\": #2", ""}[i%3],
			}
		}
	}
	check.Offer(p, text, time.Time{}, findings, findings)
	pinned, _ := p.Pin(text)
	mended, _ := check.Mend(text, findings)
	adopted, _ := plan.Adopt(text, addresses)
	written := map[string][]byte{"pinned": pinned, "mended": mended, "adopted": adopted}
	if len(p.Appliances()) > 0 {
		m := p.Appliances()[0]
		wiring := identify.Wire(
			p,
			m,
			identify.Built{Adapters: []identify.BuiltAdapter{{Number: 1, Network: "s2"}, {Number: 2, Network: "s1"}}},
		)
		written["filled"] = identify.Package{File: "x.ova", SHA256: strings.Repeat("0f", 32), Needs: lab.Needs{CPUs: 2},
			Wiring: wiring}.Fill(text, m).Text
	}
	for how, data := range written {
		l, err := lab.Read("lab.yaml", data)
		require.NoError(t, err, "%s:\n%s", how, data)
		if l.Profiles = p.Lab.Profiles; how == "pinned" {
			again, err := plan.Build(l)
			require.NoError(t, err, "%s:\n%s", how, data)
			assert.Equal(t, addressed(p), addressed(again), "%s:\n%s", how, data)
		}
	}
}

// addressed returns what a plan gives each adapter.
func addressed(p *plan.Plan) []string {
	var list []string
	for _, a := range p.Adapters {
		address := fmt.Sprint(a.Address, a.Gateway)
		if a.Segment.Unknown() && (a.Planned || a.Gateway.IsValid()) {
			address = "unknown"
		}
		list = append(list, fmt.Sprint(a.Machine.Name, a.Number, a.Name, a.MAC, address))
	}
	return list
}

func FuzzLabs(f *testing.F) {
	f.Add([]byte{})
	f.Add([]byte("a lab from bytes"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) < 4096 {
			m := &labMaker{bytes: data}
			tryEverything(t, m.lab())
		}
	})
}

// Labs from a seed go through everything; enough of them are whole.
func TestMadeLabs(t *testing.T) {
	whole, n := 0, 80
	for seed := range uint64(n) {
		text := []byte(made(dice{rand.New(rand.NewPCG(seed, 7))}))
		func() {
			defer func() {
				if e := recover(); e != nil {
					t.Errorf("seed %d: %v\n%s", seed, e, text)
					panic(e)
				}
			}()
			if tryEverything(t, text) {
				whole++
			}
		}()
	}
	t.Logf("%d of %d labs can be planned", whole, n)
	assert.Greater(t, whole, n/10)
}
