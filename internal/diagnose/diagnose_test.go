package diagnose

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/sampling"
)

func planOf(t testing.TB, name string, text []byte) *plan.Plan {
	t.Helper()
	l, err := lab.Read(name, text)
	require.NoError(t, err, name)
	p, err := plan.Build(l)
	require.NoError(t, err, name)
	return p
}

func example(t testing.TB, name string) *plan.Plan {
	t.Helper()
	text, err := examples.Labs.ReadFile(name)
	require.NoError(t, err)
	return planOf(t, name, text)
}

// crowd is a lab with guests in four segments, some named and some alike.
func crowd(t testing.TB, guests int) *plan.Plan {
	var b strings.Builder
	b.WriteString("bastion: 1\nlab: crowd\nsegments:\n  road: {reach: upstream}\n")
	names := []string{"reedbed", "boathouse", "tidepool", "jetty"}
	for _, s := range names {
		b.WriteString("  " + s + ": {reach: isolated}\n")
	}
	b.WriteString("appliances:\n  sluice:\n    ports:\n      - {role: wan, segment: road}\n")
	for _, s := range names {
		b.WriteString("      - {role: lan, name: " + s + ", segment: " + s + "}\n")
	}
	b.WriteString("    nat: {publish: [{port: tcp/8443, to: g3, at: tcp/443}]}\n")
	b.WriteString(
		"    rules: [deny any from tidepool to any, allow any from reedbed to any, \"allow tcp/443,icmp from boathouse,jetty to outside\"]\nguests:\n",
	)
	for i := range guests {
		fmt.Fprintf(&b, "  g%d: %s\n", i, names[i%len(names)])
	}
	return planOf(t, "crowd", []byte(b.String()))
}

// all makes of a vector what somebody says who took every look.
func (s *Study) all(v Vector) []Seen {
	out := make([]Seen, len(s.Looks))
	for i, l := range s.Looks {
		out[i] = Seen{Text: l.ID, Looks: []int{i}, Value: v[i]}
	}
	return out
}

// answerFor returns what somebody says to a question who looks at a lab that shows a
// vector.
func (s *Study) answerFor(q *Question, v Vector) []Seen {
	if !q.Reads && !q.Whole {
		for _, o := range q.Options {
			if o.when == q.outcome(v) {
				return o.Seen
			}
		}
		return nil
	}
	if q.Whole {
		return s.whoFails(func(_ *plan.Machine, looks []int) bool { return s.anyOff(v, looks) })
	}
	var out []Seen
	for _, i := range q.looks {
		out = append(out, Seen{Text: s.Looks[i].ID + "=" + v[i].Word(s.Plan), Looks: []int{i}, Value: v[i]})
	}
	return out
}

// rank returns where a mistake stands among causes, from 1.
func rank(causes []Cause, id string) int {
	for n, c := range causes {
		if slices.ContainsFunc(c.Mistakes, func(m mistakes.Mistake) bool { return m.ID() == id }) {
			return n + 1
		}
	}
	return len(causes) + 1
}

// In the sample lab and in every shape a mistake's own symptoms bring it back, also with
// one look misread. Those that show nothing are left out, and counted.
func TestSymptomsBringTheirMistakeBack(t *testing.T) {
	labs := map[string]*plan.Plan{"sample": example(t, "saltmarsh.yaml")}
	for _, shape := range sampling.Some(t, draft.Shapes, 4) {
		text, err := draft.Write(draft.Options{Lab: "bench", Shape: shape.Name})
		require.NoError(t, err)
		labs[shape.Name] = planOf(t, shape.Name, text)
	}
	var total, first, third, misread, fifth, alone, silent int
	for name, p := range labs {
		s := NewStudy(p)
		s.Run()
		for i, m := range s.Mistakes {
			v := s.Vectors[i]
			require.NotNil(t, v, "%s: %s", name, m.ID())
			if slices.Equal(v, s.Base) {
				silent++
				continue
			}
			if name != "sample" && i%4 > 0 || len(s.Mistakes) > 200 && i%12 > 0 {
				continue // of shapes some: they have a thousand, and the largest four hundred
			}
			total++
			seen := s.all(v)
			causes := s.Causes(seen)
			at := rank(causes, m.ID())
			first, third = first+one(at == 1), third+one(at <= 3)
			if at == 1 && len(causes[0].Mistakes) == 1 {
				alone++
			}
			k := (i*7 + 3) % len(s.Looks) // one look misread
			for _, wrong := range s.Looks[k].Values(p) {
				if wrong != v[k] {
					seen[k].Value = wrong
					misread++
					fifth += one(rank(s.Causes(seen), m.ID()) <= 5)
					break
				}
			}
		}
	}
	t.Logf(
		"%d mistakes: first %d, among three %d, alone there %d; one look misread, among five %d of %d; %d show nothing",
		total,
		first,
		third,
		alone,
		fifth,
		misread,
		silent,
	)
	assert.GreaterOrEqual(t, float64(first), 0.9*float64(total))
	assert.GreaterOrEqual(t, float64(third), 0.99*float64(total))
	assert.GreaterOrEqual(t, float64(fifth), 0.9*float64(misread))
	assert.GreaterOrEqual(t, float64(alone), 0.85*float64(total), "too many mistakes look alike")
}

// Over the sample lab's mistakes the questions lead to the one that was made, in a median
// of at most five and at most one more than any tree of questions could: each answer
// tells apart no more than the widest question has outcomes.
func TestQuestionsLeadToTheMistake(t *testing.T) {
	p := example(t, "saltmarsh.yaml")
	s := NewStudy(p)
	s.Run()
	questions := s.Questions()
	classes, widest := map[string]bool{}, 0
	for _, q := range questions {
		outcomes := map[int]bool{}
		for _, v := range s.Vectors {
			outcomes[q.outcome(v)] = true
		}
		widest = max(widest, len(outcomes))
	}
	var counts []int
	sum := 0
	for i, m := range s.Mistakes {
		v := s.Vectors[i]
		if slices.Equal(s.shown(nil)(v), s.shown(nil)(s.Base)) {
			continue // only a paste shows it
		}
		classes[string(bytesOf(v))] = true
		var seen []Seen
		asked := map[string]bool{}
		causes := s.Causes(seen)
		for remaining(causes, seen) > 1 {
			q := s.Next(causes, questions, asked)
			require.NotNil(t, q, "no question tells what is left of %s", m.ID())
			asked[q.ID] = true
			seen = append(seen, s.answerFor(q, v)...)
			causes = s.Causes(seen)
		}
		assert.Equal(t, 1, rank(causes, m.ID()), m.ID())
		counts = append(counts, len(asked))
		sum += len(asked)
	}
	slices.Sort(counts)
	best := treeBound(len(classes), widest)
	mean := float64(sum) / float64(len(counts))
	t.Logf(
		"%d mistakes in %d classes: median %d questions, mean %.2f, most %d; no tree of questions with %d answers needs fewer than %.2f",
		len(counts),
		len(classes),
		counts[len(counts)/2],
		mean,
		counts[len(counts)-1],
		widest,
		best,
	)
	assert.LessOrEqual(t, counts[len(counts)/2], 5)
}

// remaining counts the causes that show exactly what was seen.
func remaining(causes []Cause, seen []Seen) (n int) {
	for _, c := range causes {
		n += one(!slices.ContainsFunc(seen, func(x Seen) bool { return x.fits(c.Vector) > 0 }))
	}
	return n
}

// treeBound returns the mean depth of the flattest tree with so many leaves and at most
// so many branches at each question.
func treeBound(leaves, branches int) float64 {
	depth, room, sum, placed := 0, 1, 0, 0
	for placed < leaves {
		depth, room = depth+1, room*branches
		here := min(room, leaves) - placed
		if room < leaves {
			continue // a tree that is full down to here has its leaves one deeper
		}
		sum, placed = sum+here*depth, placed+here
	}
	return float64(sum) / float64(leaves)
}

// A lab in which those who are alike are left out shows what the whole lab does, for
// every mistake at every guest.
func TestFewerGuestsShowTheSame(t *testing.T) {
	p := crowd(t, 26)
	s := NewStudy(p)
	s.Run()
	assert.Less(t, s.Jobs(), len(s.Mistakes)*2/3, "hardly a guest is left out")
	for i, m := range s.Mistakes {
		if i%5 > 0 && s.first(firstOr(m)) == firstOr(m) || !sampling.Turn(i/5, 4) {
			continue
		}
		b, err := mistakes.Plant(p, m)
		require.NoError(t, err, m.ID())
		whole := s.observe(b, nil, nil)
		for k, l := range s.Looks {
			assert.Equal(t, whole[k].Word(p), s.Vectors[i][k].Word(p), "%s: %s", m.ID(), l.ID)
		}
	}
}

func firstOr(m mistakes.Mistake) *plan.Machine {
	if g := m.Guest(); g != nil {
		return g
	}
	return m.Plan.Guests()[0]
}

// Two mistakes that no single one explains are found as a pair, with what nobody explains
// told apart.
func TestPairs(t *testing.T) {
	s := NewStudy(example(t, "saltmarsh.yaml"))
	s.Run()
	var seen []Seen
	for _, text := range []string{"heron.cable=none", "ferry-tcp-8443.published=refused", "otter.dhcp=holds", "sluice.number=holds"} {
		x, err := s.ParseSeen(text)
		require.NoError(t, err)
		seen = append(seen, x)
	}
	causes := s.Causes(seen)
	require.False(t, causes[0].Explains())
	pairs := s.Pairs(seen, causes)
	require.NotEmpty(t, pairs)
	kinds := []string{pairs[0].Mistakes[0].Name, pairs[0].Mistakes[1].Name}
	assert.Contains(t, kinds, "guest-unplugged")
	assert.True(
		t,
		slices.Contains(kinds, "published-service-down") || slices.Contains(kinds, "publish-wrong-port"),
		kinds,
	)
	odd, err := s.ParseSeen("newt.no-bypass=open")
	require.NoError(t, err)
	assert.Empty(t, Unexplained([]Seen{odd}, causes), "a mistake explains it")
}

func TestParseSeen(t *testing.T) {
	s := NewStudy(example(t, "saltmarsh.yaml"))
	for text, want := range map[string]string{
		"heron.dhcp=none": "none", "heron.gateway=holds": "holds", "heron.dns=fails": "broken", "heron.outside=broken": "broken",
		"heron.dhcp=10.83.32.60": "boathouse", "heron.dhcp=10.83.16.60/25": "holds", "otter.dhcp=10.83.16.60": "other",
		"heron.dhcp=169.254.1.1": "none", "heron.router=10.83.16.9": "other", "heron.router=10.83.16.1": "holds", "heron.no-bypass=open": "open",
		"ferry.dhcp=foreign": "foreign", "sluice.wan.address=none": "none", "reedbed.one-dhcp=broken": "broken",
		"reedbed-boathouse.segments=holds": "holds", "ferry-tcp-8443.published=none": "none", "sluice.inbound=open": "open",
		"newt.blocked=broken": "broken", "heron.number=timeout": "none", "heron.page=late": "late",
	} {
		x, err := s.ParseSeen(text)
		if assert.NoError(t, err, text) {
			assert.Equal(t, want, x.Value.Word(s.Plan), text)
			assert.NotEmpty(t, x.Looks, text)
		}
	}
	for text, why := range map[string]string{
		"heron.dhcp": "is not WHAT=HOW", "heron.dhpc=none": "the nearest is heron.dhcp", "nobody.dhcp=none": "is not a known symptom",
		"heron.gateway=purple": "takes", "heron=none": "names no machine", "heron.dhcp=": "is not WHAT=HOW", "sluice.speed=late": "of sluice there are",
	} {
		_, err := s.ParseSeen(text)
		assert.ErrorContains(t, err, why, text)
	}
}

// What tools print is read as they print it, and what is not there is not guessed.
func TestPaste(t *testing.T) {
	s := NewStudy(example(t, "saltmarsh.yaml"))
	for _, c := range []struct{ name, guest, text, want string }{
		{"a lease as planned", "heron", "2: eth0    UP    10.83.16.52/24\ndefault via 10.83.16.1 dev eth0\nnameserver 10.83.16.1\n",
			"cable=holds dhcp=holds mask=holds resolver=holds router=holds"},
		{"an address that it gave itself", "heron", "inet 169.254.7.9/16 scope link eth0\n", "dhcp=none mask=none"},
		{"a typed mask", "ferry", "eth0 UP 10.83.32.10/25\ndefault via 10.83.32.1 dev eth0\n", "address=holds cable=holds mask=narrow router=holds"},
		{"pings", "heron", `$ ping -c 2 10.83.16.1
PING 10.83.16.1 (10.83.16.1) 56(84) bytes of data.
64 bytes from 10.83.16.1: icmp_seq=1 ttl=64 time=0.1 ms

--- 10.83.16.1 ping statistics ---
2 packets transmitted, 2 received, 0% packet loss, time 1001ms
$ ping -c 2 203.0.113.80
PING 203.0.113.80 (203.0.113.80) 56(84) bytes of data.

--- 203.0.113.80 ping statistics ---
2 packets transmitted, 0 received, 100% packet loss, time 1015ms
`, "gateway=holds number=none"},
		{"no way", "heron", "# ping -c 1 203.0.113.80\nping: connect: Network is unreachable\n", "number=no-route"},
		{"another system's ping", "heron", "C:\\> ping 203.0.113.80\nPinging 203.0.113.80 with 32 bytes of data:\nRequest timed out.\n" +
			"Ping statistics for 203.0.113.80:\n    Packets: Sent = 4, Received = 0, Lost = 4 (100% loss),\n", "number=none"},
		{"names", "heron", "$ dig example.com\n;; communications error to 10.83.16.1#53: timed out\n;; no servers matches reached\n", "name=none"},
		{"a DNS server that cannot", "heron", "$ host example.com\nHost example.com not found: 2(SERVFAIL)\n", "name=failed"},
		{"a name", "heron", "$ getent hosts example.com\n192.0.2.7       example.com\n", "name=holds"},
		{"pages", "heron", "$ curl -sSI http://203.0.113.80/\ncurl: (28) Failed to connect to 203.0.113.80 port 80 after 5000 ms: Timeout was reached\n", "page=none"},
		{"a page", "ferry", "$ curl -sSI http://203.0.113.80/\nHTTP/1.1 200 OK\n", "page=holds"},
		{"whole packets", "heron", "$ ping -c 1 -M do -s 1472 203.0.113.80\n1 packets transmitted, 0 received, 100% packet loss\n", "large=none"},
		{"a traced path", "heron", "$ traceroute -n 203.0.113.80\ntraceroute to 203.0.113.80 (203.0.113.80), 30 hops max, 60 byte packets\n" +
			" 1  10.83.16.1  0.4 ms  0.3 ms  0.3 ms\n 2  172.29.64.1  0.6 ms  0.6 ms  0.6 ms\n", "first-hop=holds"},
		{"a path past the appliance", "heron", "Routenverfolgung zu 203.0.113.80 über maximal 30 Hops\n\n" +
			"  1    <1 ms    <1 ms    <1 ms  172.29.64.1\n", "first-hop=causeway"},
		{"a first hop that does not report itself", "heron", " 1:  no reply\ntracepath -n 203.0.113.80\n 1?: [LOCALHOST]  pmtu 1500\n" +
			" 1:  no reply\n 2:  172.29.64.1  0.5ms\n", "first-hop=none"},
		{"a lease of another server", "heron", "   IPv4 Address. . . : 10.83.16.60\n   Subnet Mask . . . : 255.255.255.0\n" +
			"   DHCP Server . . . : 10.83.16.254\n", "dhcp=holds how=holds mask=holds servers=broken"},
		{"nothing", "heron", "hello\n", ""},
	} {
		var got []string
		for _, x := range s.FromPaste(s.Plan.Machine(c.guest), c.text) {
			got = append(got, strings.TrimPrefix(s.Looks[x.Looks[0]].ID, c.guest+".")+"="+x.Value.Word(s.Plan))
		}
		slices.Sort(got)
		assert.Equal(t, c.want, strings.Join(slices.Compact(got), " "), c.name)
	}
}

func FuzzPaste(f *testing.F) {
	f.Add("eth0 UP 10.83.16.52/24\n$ ping 203.0.113.80\n1 received\n")
	s := NewStudy(example(f, "saltmarsh.yaml"))
	f.Fuzz(func(t *testing.T, text string) {
		for _, name := range []string{"heron", "ferry", "sluice"} {
			for _, x := range s.FromPaste(s.Plan.Machine(name), text) {
				require.NotEmpty(t, x.Looks)
				require.NotEqual(t, Unseen, x.Value)
			}
		}
		if x, err := s.ParseSeen(text); err == nil {
			require.NotEmpty(t, x.Looks)
		}
	})
}

// BenchmarkStudy tries every mistake at every place, on one processor.
func BenchmarkStudy(b *testing.B) {
	for _, guests := range []int{20, 100} {
		p := crowd(b, guests)
		b.Run(fmt.Sprint(guests), func(b *testing.B) {
			for b.Loop() {
				s := NewStudy(p)
				s.Run()
				s.Table()
				b.ReportMetric(float64(len(s.Mistakes)), "mistakes")
			}
		})
	}
}

// What was found is restored as it was, and nothing else is taken for it.
func TestSaved(t *testing.T) {
	s, p := NewStudy(example(t, "slim.yaml")), example(t, "slim.yaml")
	s.Run()
	data := s.Saved()
	fresh := NewStudy(p)
	require.True(t, fresh.Restore(data))
	assert.Equal(t, s.Vectors, fresh.Vectors)
	other := NewStudy(example(t, "saltmarsh.yaml"))
	assert.False(t, other.Restore(data), "it is for another lab")
	for _, bad := range [][]byte{nil, data[:len(data)/2], []byte("hello"), append([]byte{0}, data...)} {
		assert.False(t, NewStudy(p).Restore(bad))
	}
}
