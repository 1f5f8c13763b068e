package report

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/format/pcapng"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dissect"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

type all struct{ frames []Frame }

func (a *all) Record(_ int, _ time.Time, frame []byte) {
	a.frames = append(a.frames, Frame{Number: len(a.frames) + 1, Segment: "s", Bytes: append([]byte{}, frame...)})
}

// The page names every claim, machine, address and frame, refers to nothing
// outside itself, and is HTML to a validator.
func TestHTML(t *testing.T) {
	for _, name := range []string{"saltmarsh.yaml", "saltmarsh-leaky.yaml"} {
		text, err := examples.Labs.ReadFile(name)
		require.NoError(t, err)
		l, err := lab.Read(name, text)
		require.NoError(t, err)
		p, err := plan.Build(l)
		require.NoError(t, err)
		stage := simulator.New(p)
		rec := &all{}
		stage.World().Recorder = rec
		doc := verdict.Finish(p, stage.Outcome())
		wanted := Quoted(doc)
		require.NotEmpty(t, wanted)
		var frames []Frame
		for _, f := range rec.frames {
			for _, layer := range dissect.Of(f.Bytes) {
				for _, field := range layer.Fields {
					assert.NotEqual(t, "not read", field.Name, "frame %d: %s", f.Number, field.Value)
				}
			}
			if wanted[f.Number] {
				frames = append(frames, f)
			}
		}
		data, err := HTML(p, doc, doc, frames)
		require.NoError(t, err)
		page := string(data)
		for _, r := range doc.Claims {
			assert.Contains(t, page, `id="`+r.ID+`"`)
		}
		for _, a := range p.Adapters {
			assert.Contains(t, page, a.MAC.String())
		}
		for _, m := range regexp.MustCompile(`href="#([^"]+)"`).FindAllStringSubmatch(page, -1) {
			assert.Contains(t, page, `id="`+m[1]+`"`)
		}
		assert.Empty(t, regexp.MustCompile(`(?:src|href)="[^#"]`).FindAllString(page, -1), "nothing is fetched")
		if _, err := exec.LookPath("tidy"); err == nil {
			file := filepath.Join(t.TempDir(), "page.html")
			require.NoError(t, os.WriteFile(file, data, 0o600))
			out, _ := exec.Command("tidy", "-q", "-e", file).CombinedOutput()
			assert.NotContains(t, string(out), "Error:", strings.TrimSpace(string(out)))
		}
	}
}

// An analyser reads the same in a frame as the page shows.
func TestLayersAgreeWithAnAnalyser(t *testing.T) {
	if _, err := exec.LookPath("tshark"); err != nil {
		t.Skip("tshark is not here to compare with")
	}
	text, err := examples.Labs.ReadFile("saltmarsh-leaky.yaml")
	require.NoError(t, err)
	l, err := lab.Read("lab.yaml", bytes.Replace(text, []byte("\nsegments:"), []byte("\nipv6: true\nsegments:"), 1))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	stage := simulator.New(p)
	file := filepath.Join(t.TempDir(), "a.pcapng")
	f, err := os.Create(file)
	require.NoError(t, err)
	w := pcapng.NewWriter(f, "test", "test")
	for _, name := range stage.World().Segments {
		w.AddInterface(name, "")
	}
	rec := &all{}
	stage.World().Recorder = both{rec, w}
	stage.Outcome()
	require.NoError(t, w.Err())
	require.NoError(t, f.Close())

	fields := []string{
		"eth.src",
		"vlan.id",
		"ip.src",
		"ip.dst",
		"ip.ttl",
		"ipv6.src",
		"ipv6.dst",
		"tcp.srcport",
		"tcp.dstport",
		"udp.srcport",
		"udp.dstport",
		"dns.qry.name",
		"dhcp.option.dhcp",
		"icmp.type",
		"icmpv6.type",
		"arp.dst.proto_ipv4",
	}
	// Of what lies in a tunnel or behind two tags, or is sent round by a source, the page tells the outside only.
	args := []string{
		"-r",
		file,
		"-Y",
		"!(ip.proto == 4 || ip.proto == 41 || ip.proto == 47 || ip.opt.type || ip.flags.mf == 1 || ip.frag_offset > 0 || vlan.etype == 0x8100)",
		"-T",
		"fields",
		"-e",
		"frame.number",
		"-E",
		"occurrence=f",
		"-E",
		"separator=|",
	}
	for _, name := range fields {
		args = append(args, "-e", name)
	}
	out, err := exec.Command("tshark", args...).Output()
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	require.Greater(t, len(lines), len(rec.frames)*9/10)
	messages := map[string]string{"1": "discover", "2": "offer", "3": "request", "5": "ack", "6": "nak"}
	checked := map[string]int{}
	for _, line := range lines {
		said := map[string]string{}
		number, line, _ := strings.Cut(line, "|")
		i, err := strconv.Atoi(number)
		require.NoError(t, err)
		i--
		for k, v := range strings.Split(line, "|") {
			said[fields[k]] = v
		}
		ours := map[string]string{}
		layer := ""
		for _, x := range dissect.Of(rec.frames[i].Bytes) {
			layer = x.Name
			for _, field := range x.Fields {
				if _, known := ours[layer+" "+field.Name]; !known {
					ours[layer+" "+field.Name] = field.Value
				}
			}
		}
		quotes := ours["ICMP about"]+ours["ICMPv6 about"] != "" // an analyser reads on in what an error quotes
		expect := func(field, at, want string) {
			if said[field] == "" || quotes && !strings.HasPrefix(at, "IP") && !strings.HasPrefix(at, "Ethernet") {
				return
			}
			checked[field]++
			assert.True(
				t,
				strings.HasPrefix(ours[at], want),
				"frame %d: %s is %q, and %s says %q",
				i+1,
				field,
				said[field],
				at,
				ours[at],
			)
		}
		expect("eth.src", "Ethernet from", said["eth.src"])
		expect("vlan.id", "Ethernet tag", said["vlan.id"])
		expect("ip.src", "IPv4 source", said["ip.src"])
		expect("ip.dst", "IPv4 destination", said["ip.dst"])
		expect("ip.ttl", "IPv4 hops left", said["ip.ttl"])
		expect("ipv6.src", "IPv6 source", said["ipv6.src"])
		expect("ipv6.dst", "IPv6 destination", said["ipv6.dst"])
		expect("tcp.srcport", "TCP ports", said["tcp.srcport"]+" to "+said["tcp.dstport"])
		expect("udp.srcport", "UDP ports", said["udp.srcport"]+" to "+said["udp.dstport"])
		expect("dns.qry.name", "DNS asks", said["dns.qry.name"]+".")
		expect("dhcp.option.dhcp", "DHCP message", messages[said["dhcp.option.dhcp"]])
		expect("icmp.type", "ICMP type", said["icmp.type"]+" ")
		expect("icmpv6.type", "ICMPv6 type", said["icmpv6.type"]+" ")
		if said["arp.dst.proto_ipv4"] != "" && strings.HasPrefix(ours["ARP asks"], "who has") {
			expect("arp.dst.proto_ipv4", "ARP asks", "who has "+said["arp.dst.proto_ipv4"]+"?")
		}
	}
	for _, name := range fields {
		if !strings.HasSuffix(name, "dstport") {
			assert.Positive(t, checked[name], "no frame has %s", name)
		}
	}
}

// both hands frames to two recorders.
type both [2]simulator.Recorder

func (b both) Record(segment int, at time.Time, frame []byte) {
	b[0].Record(segment, at, frame)
	b[1].Record(segment, at, frame)
}

// An error of check that no claim shows is in every form, and makes build servers
// fail: nobody reads green on a lab that has one.
func TestFindingsAreReported(t *testing.T) {
	l, err := lab.Read(
		"lab.yaml",
		[]byte(
			"bastion: 1\nlab: odd\nsite: {memory: 1GiB}\nsegments: {road: {reach: upstream}, desks: {reach: isolated}}\n"+
				"appliances: {gate: {needs: {memory: 4GiB}, machine: {memory: 2GiB}, ports: [{role: wan, segment: road}, {role: lan, segment: desks}]}}\n"+
				"guests: {heron: desks}\n",
		),
	)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	doc := verdict.Finish(p, simulator.New(p).Outcome())
	require.Equal(t, claims.Broken, doc.Verdict)
	require.NotEmpty(t, doc.Findings)
	assert.Contains(t, doc.Summary(), "more errors")
	page := string(Markdown(p, doc))
	assert.Contains(t, page, "## Causes")
	assert.Contains(t, page, doc.Findings[0].Code)
	data, err := JUnit(doc)
	require.NoError(t, err)
	assert.Contains(t, string(data), "odd.check")
	assert.NotContains(t, string(data), `failures="0" skipped="0">\n  <testsuite name="odd.check"`)
}
