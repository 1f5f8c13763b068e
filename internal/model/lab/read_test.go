package lab

import (
	"bytes"
	"fmt"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const shortest = `bastion: 1
lab: saltmarsh
segments:
  causeway: {reach: upstream}
  reedbed: {reach: isolated}
appliances:
  sluice:
    ports:
      - {role: wan, segment: causeway}
      - {role: lan, segment: reedbed}
guests:
  heron: reedbed
`

func TestReadSample(t *testing.T) {
	data, err := os.ReadFile("../../../examples/saltmarsh.yaml")
	require.NoError(t, err)
	l, err := Read("saltmarsh.yaml", data)
	require.NoError(t, err)
	assert.Equal(t, []string{"causeway", "reedbed", "boathouse", "tidepool"},
		[]string{l.Segments[0].Name, l.Segments[1].Name, l.Segments[2].Name, l.Segments[3].Name})
	assert.Equal(t, 16*GiB, l.Site.Memory)
	assert.Equal(t, Isolated, l.Segment("tidepool").Reach)
	ports := l.Appliance("sluice").Ports
	assert.Equal(
		t,
		[]string{"wan", "lan", "dmz", "quarantine"},
		[]string{ports[0].Name, ports[1].Name, ports[2].Name, ports[3].Name},
	)
	assert.Equal(t, Admin{On: true}, ports[1].Admin)
	assert.Equal(t, 8*time.Hour, ports[1].Leases.Time)
	assert.Equal(t, "10.83.16.199", ports[1].Leases.To.String())
	assert.Equal(t, WhoGuest, l.Expect[0].From.Kind)
	ferry := l.Guest("ferry")
	assert.Equal(t, "10.83.32.10/24", ferry.Adapters[0].Static.String())
	line := strings.Split(string(data), "\n")[ferry.Adapters[0].At("static").Line-1]
	assert.Equal(
		t,
		"10.83.32.10/24",
		line[ferry.Adapters[0].At("static").Column-1:][:14],
		"positions point at the value",
	)
	assert.True(t, ports[1].Has("address") && !ports[0].Has("mac"))
}

// Each case changes one line of the shortest lab; every fault must be told, at
// its place, with what to write instead.
func TestFaults(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"bastion: 1", "bastion: 2", `1:10: bastion is a whole number from 1 to 1, not "2"`},
		{"bastion: 1\n", "", "the format version is missing; write `bastion: 1`"},
		{"lab: saltmarsh", "lab: Salt Marsh", `2:6: "Salt Marsh" is not a valid name`},
		{"lab: saltmarsh", "lab: outside", `"outside" is a keyword of rules`},
		{"segments:", "segmnets:", `3:1: the lab file has no key "segmnets"; did you mean segments?`},
		{"{reach: isolated}", "{reach: isolted}", `5:20: reach is not "isolted" (did you mean "isolated"?)`},
		{"{reach: isolated}", "{reach: internal}", `reach is not "internal" (did you mean "isolated"?)`},
		{"{reach: isolated}", "{reach: isolated, network: 10.83.16.0/24}", `has no key "network"; did you mean subnet?`},
		{"{reach: isolated}", "{reach: isolated, netmask: 255.255.255.0}",
			"a mask follows its address, as a length: subnet: 10.83.16.1/24"},
		{"{reach: isolated}", "{reach: isolated, subnet: 10.83.16.0 255.255.255.0}", "has its mask behind a space; write 10.83.16.0/24"},
		{"{reach: isolated}", "{reach: isolated, subnet: 10.83.16.16.0/24}", "did you mean 10.83.16.0?"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbed, address: fd00::1/64}", "fd00::1/64 is an IPv6 address; write an IPv4 address"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbed, dhcp: {pool: fd00::5-fd00::9}}", "fd00::5 is an IPv6 address"},
		{"heron: reedbed", "heron: {segment: reedbed, reserve: fd00::9}", "fd00::9 is an IPv6 address"},
		{"{reach: isolated}", "{reach: isolated, reach: host}", "5:30: reach is here twice; the first is in line 5"},
		{"{reach: isolated}", "{reach: isolated, subnet: 10.83.16.0/255.255.255.0.0}", "a mask has 4; did you mean 255.255.255.0?"},
		{"{reach: isolated}", "{reach: isolated, subnet: 10.83.16.9/24}", "names one machine, not a network; write 10.83.16.0/24"},
		{"{reach: isolated}", "{reach: isolated, gateway: 10.83.16.1}", "gateway belongs to a segment of reach upstream"},
		{"{reach: isolated}", "{reach: host, uplink: enp1}", "no adapter of the host is on it"},
		{"{reach: isolated}", "{reach: isolated, native: 10}", "reedbed has no uplink"},
		{"{reach: isolated}", "{reach: isolated, host-gateway: 10.0.0.1}", "host-gateway belongs to a segment of reach host"},
		{"{reach: upstream}", "{reach: upstream, routes: 10.83.16.0/24}", "write NETWORK via ADDRESS"},
		{"{reach: upstream}", "{reach: upstream, routes: 10.83.16.5/24 via 172.29.64.7}", "names one machine"},
		{"{role: lan, segment: reedbed}", "{role: unused, segment: reedbed, address: 10.0.0.1/24}", "port unused is unused and has no address"},
		{"{role: lan, segment: reedbed}", "{role: unused, plugged: true}", "always unplugged"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbed, connect: soon}", "write now, later"},
		{"guests:", "    admin-services: [htps/8443]\nguests:", `did you mean "https"?`},
		{"guests:", "    admin-services: [ssh/0]\nguests:", "no port from 1 to 65535; write one such as ssh/8443"},
		{"  heron: reedbed", "  later: reedbed", "uses a reserved name (later)"},
		{"{reach: isolated}", "{reach: isolated, host-forwards: yes}", "host-forwards is true or false"},
		{"{reach: isolated}", "{reach: isolated, within: causeway}", "has no tag; write `vlan: 48`"},
		{"{reach: isolated}", "{reach: isolated, dhcp: herron}", "5:36: no guest herron; did you mean heron?"},
		{"{reach: isolated}", "&a {reach: isolated}", "anchors and aliases"},
		{"{reach: isolated}", "", "5:3: segment reedbed is empty"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbad}", "10:30: no segment reedbad; did you mean reedbed?"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: heron}", "heron is a guest, not a segment"},
		{"{role: lan, segment: reedbed}", "{segment: reedbed}", "10:9: this entry of ports has no role"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbed, over: wan}", "port lan is over wan, and segment reedbed has no tag"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbed, address: dhpc}", `did you mean "dhcp"?`},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbed, mac: 02:5b:1}", "twelve hexadecimal digits"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbed, dhcp: {pool: 10.0.0.5}}", "has no second address; write FIRST-LAST"},
		{"{role: lan, segment: reedbed}", "{role: lan, segment: reedbed, admin: tcp/0}", `"tcp/0"`},
		{"  heron: reedbed", "  heron: reedbde", "12:10: no segment reedbde; did you mean reedbed?"},
		{"  heron: reedbed", "  sluice: reedbed", "guest sluice has the same name as an appliance"},
		{"  heron: reedbed", "  heron: {reserve: 10.0.0.1, static: 10.0.0.2/24, segment: reedbed}", "both a reservation and a static address"},
		{"  heron: reedbed", "  heron: reedbed\n  heron: reedbed", "13:3: heron is here twice; the first is in line 12"},
		{"  heron: reedbed", "  heron: reedbed\nexpect: [heron never reach outside]", "is not whole; write: SOURCE reaches"},
		{"  heron: reedbed", "  heron: reedbed\nexpect: [heorn reaches outside]",
			`"heorn" is not a segment, guest or appliance of this lab; did you mean heron?`},
		{"guests:", "    rules: [permit any from heron to outside]\nguests:", "a rule starts with allow, deny or refuse"},
		{"guests:", "    rules: ['allow tcp/80-70 from heron to outside']\nguests:", "run backwards; write tcp/70-80"},
		{"guests:", "    nat: {publish: [{port: tcp/443, to: heron, at: udp/443}]}\nguests:", "cannot turn tcp into udp; write tcp/443"},
		{"guests:", "\tguests:", "this is not YAML"},
		{"guests:", "---\nguests:", "a second document starts here"},
		{"guests:", "gue\x00sts:", "byte 0x00 is neither"},
	} {
		_, err := Read("lab.yaml", []byte(strings.Replace(shortest, c.old, c.new, 1)))
		if assert.Error(t, err, c.new) {
			assert.Contains(t, err.Error(), c.want)
			var faults Faults
			require.ErrorAs(t, err, &faults)
			for _, f := range faults {
				line, mark := f.Excerpt()
				assert.LessOrEqual(t, len([]rune(mark)), len([]rune(line))+1, c.new)
			}
		}
	}
	_, err := Read("lab.yaml", []byte(strings.NewReplacer("isolated", "isolted", "lan,", "lam,", "heron: reedbed",
		"heron: reed").Replace(shortest)))
	assert.Len(t, err, 3, "all faults are told in one go")
}

func TestSentences(t *testing.T) {
	for text, want := range map[string]string{
		"allow any from reedbed to outside":               "",
		"refuse tcp/25, udp/53 from reedbed to any log":   "refuse tcp/25,udp/53 from reedbed to any log",
		"deny tcp/1-1024 from 10.0.0.0/8 to 203.0.113.80": "",
	} {
		r, err := ParseRule(text)
		require.NoError(t, err, text)
		if want == "" {
			want = text
		}
		assert.Equal(t, want, r.String())
	}
	rapid.Check(t, func(t *rapid.T) { // what is printed is read as the same
		who := rapid.SampledFrom([]string{"any", "outside", "reedbed", "10.0.0.0/8", "10.1.2.3", "a,b"})
		service := rapid.SampledFrom([]string{"any", "icmp", "tcp", "udp/53", "tcp/1-9", "tcp/80,udp/80"})
		text := fmt.Sprintf(
			"%s %s from %s to %s",
			rapid.SampledFrom([]string{"allow", "deny", "refuse"}).Draw(t, "action"),
			service.Draw(t, "service"),
			who.Draw(t, "from"),
			who.Draw(t, "to"),
		)
		r, err := ParseRule(text)
		require.NoError(t, err)
		require.Equal(t, text, r.String())
		verb := rapid.SampledFrom([]string{"reaches", "never reaches"}).Draw(t, "verb")
		sentence := "heron " + verb + " outside tcp/443"
		e, err := ParseExpectation(sentence)
		require.NoError(t, err)
		require.Equal(t, sentence, e.String())
	})
}

// big writes a lab of n guests and n rules.
func big(n int) []byte {
	var b bytes.Buffer
	b.WriteString(
		"bastion: 1\nlab: big\nsegments:\n  up: {reach: upstream}\n  in: {reach: isolated}\nappliances:\n  gate:\n    ports:\n      - {role: wan, segment: up}\n      - {role: lan, segment: in}\n    rules:\n",
	)
	for i := range n {
		fmt.Fprintf(&b, "      - allow tcp/%d from guest-%05d to outside\n", 1+i%65535, i)
	}
	b.WriteString("guests:\n")
	for i := range n {
		fmt.Fprintf(&b, "  guest-%05d: in\n", i)
	}
	return b.Bytes()
}

// Hostile input must end in an error soon and without much memory.
func TestBounds(t *testing.T) {
	rng := uint32(1)
	garbage := make([]byte, MaxSize)
	for i := range garbage {
		rng = rng*1664525 + 1013904223
		garbage[i] = byte(rng >> 24)
	}
	bomb := "a: &a [x,x,x,x,x,x,x,x,x]\n"
	for c := 'b'; c < 'z'; c++ {
		bomb += fmt.Sprintf("%c: &%c [%s*%c]\n", c, c, strings.Repeat(fmt.Sprintf("*%c,", c-1), 8), c-1)
	}
	for name, data := range map[string][]byte{
		"too large":     make([]byte, MaxSize+1),
		"garbage":       garbage,
		"nested":        []byte(strings.Repeat("[", 1<<20)),
		"indented":      []byte(strings.Repeat("- ", 1<<20)),
		"deep mapping":  deepMapping(2000),
		"question":      []byte(strings.Repeat("? ", 1<<20)),
		"aliases":       []byte(bomb),
		"many values":   []byte(strings.Repeat("a,", MaxSize/2)),
		"many keys":     []byte(strings.Repeat("k: v\n", 500_000)),
		"many comments": []byte(strings.Repeat("# c\n", MaxSize/4)),
		"long scalar":   []byte("lab: " + strings.Repeat("x", MaxSize-10)),
		"many tags":     []byte(strings.Repeat("!t ", 1<<20)),
		"open quote":    []byte(`lab: "` + strings.Repeat("\\", MaxSize/2)),
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		began := time.Now()
		_, err := Read("x", data)
		took := time.Since(began)
		runtime.ReadMemStats(&after)
		assert.Error(t, err, name)
		limit := time.Second
		if raceEnabled {
			limit *= 20
		}
		for again := 0; again < 2 && took >= limit; again++ { // a busy machine is not the reader's fault
			began = time.Now()
			_, _ = Read("x", data)
			took = min(took, time.Since(began))
		}
		assert.Less(t, took, limit, name)
		assert.Less(t, after.Sys-before.Sys, uint64(200<<20), "%s: memory taken from the system", name)
	}
}

func deepMapping(depth int) []byte {
	var b bytes.Buffer
	for i := range depth {
		b.WriteString(strings.Repeat(" ", i) + "k:\n")
	}
	return b.Bytes()
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(shortest))
	sample, _ := os.ReadFile("../../../examples/saltmarsh.yaml")
	f.Add(sample)
	for _, s := range []string{"a: &a [*a]", "? {x: y}: z", "bastion: 1\nlab: {}\n", "- - - a", "%YAML 1.2\n---\nx", "!!binary x: y",
		"\"\\ud800\": 1"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		l, err := Read("lab.yaml", data)
		if (l == nil) == (err == nil) {
			t.Fatalf("lab %v with error %v", l, err)
		}
	})
}

func BenchmarkRead(b *testing.B) {
	for _, n := range []int{100, 1000, 10000} {
		data := big(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				if _, err := Read("big.yaml", data); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// What would be read as something else than it looks is refused at once.
func TestRefusedText(t *testing.T) {
	for text, want := range map[string]string{
		"bastion: 1\rlab: a\n":                                                           "1:11: a line ends here",
		"bastion: 1\r\nlab: a\r\ntitle: \u2028b\r\n":                                     "3:8: a line ends here",
		"bastion: 1\nlab: a\ntitle: b\u0085c\n":                                          "3:9: a line ends here",
		"bastion: 1\nlab: !foo a\n":                                                      "2:6: the tag !foo has no meaning",
		"bastion: 1\nlab: a\nsegments: !x {s: {reach: isolated}}\n":                      "3:11: the tag !x has no meaning",
		"bastion: 1\nlab: a\ntitle: \"b\\ec\"\n":                                         "3:8: title contains the invisible character U+001B",
		"bastion: 1\nlab: a\nsegments: {s: {reach: isolated, subnet: 127.0.0.0/24}}\n":   "loopback",
		"bastion: 1\nlab: a\nsegments: {s: {reach: isolated, subnet: 169.254.3.0/24}}\n": "link-local addresses",
		"bastion: 1\nlab: a\nsegments: {s: {reach: isolated, subnet: 224.1.2.0/24}}\n":   "groups",
		"bastion: 1\nlab: a\nsegments: {s: {reach: isolated, subnet: 250.0.0.0/8}}\n":    "reserved",
		"bastion: 1\nlab: a\nsegments: {s: {reach: isolated, subnet: 0.0.0.0/8}}\n":      "no machine",
	} {
		_, err := Read("l.yaml", []byte(text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
	l, err := Read("l.yaml", []byte("bastion: 1\r\nlab: a\r\ntitle: b\r\n"))
	require.NoError(t, err)
	assert.Equal(t, "b", l.Title)
}
