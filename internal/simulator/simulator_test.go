package simulator

import (
	"bytes"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

func build(t require.TestingT, data []byte) *Lab {
	l, err := lab.Read("lab.yaml", data)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return New(p)
}

func example(t require.TestingT, name string) []byte {
	data, err := os.ReadFile("../../examples/" + name)
	require.NoError(t, err)
	return data
}

// verdicts returns the claims that do not hold, with what was seen.
func verdicts(doc claims.Outcome) map[string]claims.Result {
	out := map[string]claims.Result{}
	for _, r := range doc.Claims {
		if r.Verdict != claims.Holds {
			out[r.ID] = r
		}
	}
	return out
}

func run(t require.TestingT, data []byte) claims.Outcome {
	r := build(t, data)
	return r.Outcome()
}

func TestSampleHolds(t *testing.T) {
	doc := run(t, example(t, "saltmarsh.yaml"))
	assert.Equal(t, claims.Holds, doc.Verdict)
	assert.Empty(t, verdicts(doc))
	kinds := map[claims.Kind]int{}
	for _, r := range doc.Claims {
		kinds[r.Kind]++
		assert.NotEmpty(t, r.Evidence, "%s holds without evidence", r.ID)
	}
	for _, k := range []claims.Kind{claims.DHCP, claims.OneDHCP, claims.Gateway, claims.DNS, claims.Outside, claims.FirstHop, claims.NoBypass,
		claims.Blocked, claims.Inbound, claims.Published, claims.Segments, claims.Expect} {
		assert.NotZero(t, kinds[k], "no claim of kind %s", k)
	}
}

func TestLeakyTwin(t *testing.T) {
	broken := verdicts(run(t, example(t, "saltmarsh-leaky.yaml")))
	cut := broken["otter.no-bypass"]
	assert.Contains(t, cut.Observed, "otter → causeway → lighthouse → beyond → buoy")
	assert.Contains(t, cut.Remedy, "remove otter adapter 2 from causeway")
	assert.Contains(
		t,
		broken["heron.no-bypass"].Observed,
		"heron → reedbed → otter → causeway",
		"a neighbor with a second door is everybody's door",
	)
	assert.Contains(
		t,
		broken["reedbed.one-dhcp"].Observed,
		"the host's DHCP server (10.83.16.254, 02:0b:00:13:00:01) answers on reedbed as well",
	)
	assert.Equal(t, "reedbed.one-dhcp", broken["heron.dhcp"].Follows)
	assert.NotContains(t, broken, "newt.blocked")
	assert.NotContains(t, broken, "ferry.no-bypass")
}

// Each mistake is made in the sample lab; the claims named must break, and say
// what is named, and no claim about another guest may.
func TestMistakes(t *testing.T) {
	sample := string(example(t, "saltmarsh.yaml"))
	for _, c := range []struct {
		mistake, old, new string
		broken            map[string]string
	}{
		{"a rule lets quarantine out", "deny any from tidepool to any", "allow tcp/443 from tidepool to outside", map[string]string{
			"expect-1.expect": "newt"}},
		{"the gateway is typed wrong", "gateway: 10.83.32.1,", "gateway: 10.83.32.2,", map[string]string{
			"ferry.gateway": "10.83.32.2", "ferry.outside": "icmp", "expect-3.expect": "", "ferry-tcp-8443.published": ""}},
		{"the mask is typed wrong", "static: 10.83.32.10/24", "static: 10.83.32.10/28, mac: '02:00:00:00:00:01'", map[string]string{}},
		{"the DNS server is typed wrong", "dns: [10.83.32.1]", "dns: [10.83.32.9]", map[string]string{"ferry.dns": "10.83.32.9 does not answer"}},
		{"an adapter is unplugged", "role: dmz, segment: boathouse", "role: dmz, plugged: false, segment: boathouse", map[string]string{
			"ferry.gateway": "does not answer", "boathouse.one-dhcp": "no DHCP server answers"}},
		{"the host routes a segment", "  boathouse:                     # a published web server\n    reach: isolated",
			"  boathouse:\n    reach: host\n    host-forwards: true", map[string]string{
				"ferry.no-bypass": "ferry → boathouse → host → causeway → lighthouse"}},
		{"the admin page answers outside", "{role: wan, segment: causeway, address: dhcp}",
			"{role: wan, segment: causeway, address: dhcp, admin: true}", map[string]string{
				"sluice.inbound": "tcp/443 (the admin page) answers at sluice.wan"}},
		{"nothing is translated", "      publish:", "      masquerade: [boathouse]\n      publish:", map[string]string{
			"heron.outside": "no answer"}},
		{"the publish is denied", "deny any from tidepool to any", "deny any from tidepool,outside to any", map[string]string{
			"ferry-tcp-8443.published": "no answer", "expect-2.expect": ""}},
		{"no DHCP server", "segment: tidepool, over: lan}", "segment: tidepool, over: lan, dhcp: none}", map[string]string{
			"newt.dhcp": "no DHCP server is planned on tidepool"}},
	} {
		data := strings.Replace(sample, c.old, c.new, 1)
		require.NotEqual(t, sample, data, c.mistake)
		broken := verdicts(run(t, []byte(data)))
		for id, saw := range c.broken {
			if assert.Contains(t, broken, id, c.mistake) {
				assert.Contains(t, broken[id].Observed, saw, c.mistake)
				assert.NotEmpty(t, broken[id].Remedy, "%s: %s", c.mistake, id)
			}
		}
		for id := range broken {
			assert.False(
				t,
				strings.HasPrefix(id, "otter.") && c.mistake != "nothing is translated",
				"%s breaks %s",
				c.mistake,
				id,
			)
		}
	}
}

// recorder hashes all that is recorded.
type recorder struct {
	hash   uint64
	frames int
	last   time.Time
}

func (r *recorder) Record(segment int, at time.Time, frame []byte) {
	h := fnv.New64a()
	fmt.Fprint(h, r.hash, segment, at.UnixNano())
	h.Write(frame)
	r.hash = h.Sum64()
	r.frames++
	if at.Before(r.last) {
		panic("time runs backwards")
	}
	r.last = at
}

func TestSameBytesEveryRun(t *testing.T) {
	var first *recorder
	var told string
	for range 3 {
		l := build(t, example(t, "saltmarsh-leaky.yaml"))
		rec := &recorder{}
		l.World().Recorder = rec
		doc := l.Outcome()
		text, err := json.Marshal(doc)
		require.NoError(t, err)
		if first == nil {
			first, told = rec, string(text)
		}
		require.Equal(t, first, rec)
		require.True(t, told == string(text))
		require.Equal(t, l.World().Frames(), rec.frames)
	}
}

// crowd writes a lab of n guests on some segments.
func crowd(n, segments int) []byte {
	var b bytes.Buffer
	b.WriteString("bastion: 1\nlab: crowd\nsegments:\n  up: {reach: upstream}\n")
	for i := range segments {
		fmt.Fprintf(&b, "  s%d: {reach: isolated}\n", i)
	}
	b.WriteString("appliances:\n  gate:\n    ports:\n      - {role: wan, segment: up}\n")
	for i := range segments {
		fmt.Fprintf(&b, "      - {role: lan, segment: s%d}\n", i)
	}
	b.WriteString("guests:\n")
	for i := range n {
		fmt.Fprintf(&b, "  g%d: s%d\n", i, i%segments)
	}
	return b.Bytes()
}

func TestCrowdHolds(t *testing.T) {
	doc := run(t, crowd(120, 3))
	assert.Empty(t, verdicts(doc))
}

func BenchmarkRehearse(b *testing.B) {
	for _, c := range []struct{ guests, segments int }{{10, 1}, {100, 1}, {1000, 1}, {1000, 20}} {
		data := crowd(c.guests, c.segments)
		b.Run(fmt.Sprintf("%d-guests-%d-segments", c.guests, c.segments), func(b *testing.B) {
			b.ReportAllocs()
			frames := 0
			for b.Loop() {
				l := build(b, data)
				if doc := l.Outcome(); doc.Verdict != claims.Holds {
					b.Fatal(doc.Verdict)
				}
				frames += l.World().Frames()
			}
			b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
		})
	}
}

// A guest that is called as a stand-in is an ordinary guest, and so is a segment.
func TestNamesOfStandIns(t *testing.T) {
	text := `bastion: 1
lab: names
segments: {lighthouse: {reach: upstream}, beyond: {reach: isolated}}
appliances: {outsider: {ports: [{role: wan, segment: lighthouse}, {role: lan, segment: beyond}]}}
guests: {buoy: beyond, everybody: beyond, announcer: beyond, witness: {adapters: [{segment: beyond}, {segment: lighthouse}]}}
`
	doc := run(t, []byte(text))
	broken := verdicts(doc)
	for _, g := range []string{"buoy", "everybody", "announcer", "witness"} {
		assert.Contains(t, broken, g+".no-bypass", "witness is a path outside for all")
		assert.NotContains(t, broken, g+".dhcp")
	}
	require.NotEmpty(t, broken["buoy.no-bypass"].Escapes)
	way := broken["buoy.no-bypass"].Escapes[0]
	assert.Equal(
		t,
		[]string{"buoy", "beyond", "witness", "lighthouse", "lighthouse-outside", "beyond-outside", "buoy-outside"},
		way.Path,
	)
}
