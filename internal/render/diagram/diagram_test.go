package diagram

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"fmt"
	"image/color"
	"image/png"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"openbastion/examples"
	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

func planned(t testing.TB, text []byte) *plan.Plan {
	t.Helper()
	l, err := lab.Read("lab.yaml", text)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p
}

func example(t testing.TB, name string) *plan.Plan {
	text, err := examples.Labs.ReadFile(name + ".yaml")
	require.NoError(t, err)
	return planned(t, text)
}

// crowded has what a layout can stumble over: several clusters, an appliance
// in a chain with two ways up, guests on many segments, long names, tags.
const crowded = `bastion: 1
lab: crowded
title: A lab with a title that is far too long for the picture in which it stands, so that it has to be shortened somewhere
segments:
  north: {reach: upstream}
  middle: {reach: upstream, join: nat}
  south: {reach: upstream}
  alone: {reach: isolated}
  desks: {reach: isolated}
  a-segment-with-quite-a-long-name: {reach: isolated, within: desks, vlan: 20}
  deep: {reach: isolated}
  service: {reach: host}
appliances:
  one:
    ports: [{role: wan, segment: north}, {role: wan, name: second, segment: middle}, {role: wan, name: third, segment: south}, {role: lan,
	segment: desks, dhcp: {domain: x.example}}, {role: lan, name: tagged, segment: a-segment-with-quite-a-long-name, over: lan},
		{role: manage, segment: service}]
    nat: {publish: [{port: tcp/80, to: g0}, {port: tcp/81, to: g0, at: tcp/80}, {port: tcp/82, to: g0, at: tcp/80}, {port: tcp/83, to: g0,
	at: tcp/80}, {port: tcp/84, to: g0, at: tcp/80}]}
  two:
    ports: [{role: wan, segment: desks}, {role: lan, segment: deep, plugged: false}, {role: manage, segment: service}]
  three:
    ports: [{role: wan, segment: south}, {role: lan, segment: alone}]
guests:
  g0: {segment: desks, reserve: auto}
  walker: {adapters: [{segment: desks}, {segment: middle}, {segment: deep}, {segment: service}], forwards: true}
  climber: {adapters: [{segment: alone}, {segment: north}]}
  outsider: middle
`

func labs(t testing.TB) map[string]*plan.Plan {
	out := map[string]*plan.Plan{"sound": example(t, "saltmarsh"), "leaky": example(t, "saltmarsh-leaky"),
		"crowded": planned(t, []byte(strings.Replace(crowded, "reserve: auto", "static: 10.9.0.9/24", 1)))}
	for _, s := range draft.Shapes {
		for _, n := range []int{1, 12} {
			o := draft.Options{}
			o.Lab, o.Shape, o.Guests = "bench", s.Name, n
			text, err := draft.Write(o)
			require.NoError(t, err)
			out[fmt.Sprint(s.Name, n)] = planned(t, text)
		}
	}
	return out
}

func rehearsed(t testing.TB, p *plan.Plan) *verdict.Document {
	doc := verdict.Finish(p, simulator.New(p).Outcome())
	return &doc
}

// No text lies over another or outside the picture, in any lab and with a
// verdict painted in; and everything that has a name is named.
func TestLabelsKeepApart(t *testing.T) {
	for name, p := range labs(t) {
		for _, o := range []Options{{}, {All: true}, {Verdict: rehearsed(t, p)}} {
			pic := Of(p, o)
			var labels []Shape
			var text strings.Builder
			for _, s := range pic.Shapes {
				if s.Kind != Label {
					continue
				}
				for _, o := range labels {
					require.False(t, s.Box.Overlaps(o.Box), "%s: %q lies over %q", name, s.Text, o.Text)
				}
				assert.True(
					t,
					s.Box.X >= 0 && s.Box.right() <= pic.W && s.Box.Y >= 0 && s.Box.bottom() <= pic.H,
					"%s: %q leaves the picture",
					name,
					s.Text,
				)
				labels = append(labels, s)
				fmt.Fprintln(&text, s.Text)
			}
			all := text.String()
			typed := strings.Join(Text(p, o, 100), "\n")
			for _, s := range p.Segments {
				assert.Contains(t, all, s.Name, name)
				assert.Contains(t, typed, s.Name, name)
			}
			for _, a := range p.Adapters {
				if a.Machine.Off || a.Role == lab.Unused {
					assert.Contains(t, all, a.Machine.Name, name)
					continue
				}
				if a.Machine.Appliance != nil || o.All {
					assert.Contains(t, all, "…"+a.MAC.Tail(2), name)
					assert.Contains(t, all, a.Machine.Name, name)
					assert.Contains(t, typed, a.Machine.Name, name)
				}
			}
			for _, line := range Text(p, o, 60) {
				assert.LessOrEqual(t, len([]rune(line)), 60, name)
			}
		}
	}
}

// Each cable of the picture joins a machine to a segment that it is on, along what is
// drawn, and each gate stands where its appliance is drawn.
func TestCables(t *testing.T) {
	for name, p := range labs(t) {
		pic := Of(p, Options{})
		assert.True(t, slices.IsSortedFunc(pic.Cables, func(a, b Cable) int {
			return cmp.Or(strings.Compare(a.Machine, b.Machine), strings.Compare(a.Segment, b.Segment))
		}), name)
		for _, c := range pic.Cables {
			require.GreaterOrEqual(t, len(c.Points), 2, name)
			for _, at := range c.Points {
				assert.True(
					t,
					at.X >= 0 && at.X <= pic.W && at.Y >= 0 && at.Y <= pic.H,
					"%s: %s to %s leaves the picture",
					name,
					c.Machine,
					c.Segment,
				)
			}
			require.NotNil(t, p.Segment(c.Segment), name)
			if c.Machine == "" {
				continue
			}
			on := slices.ContainsFunc(
				p.Machine(c.Machine).Adapters,
				func(a *plan.Adapter) bool { return a.Segment.Name == c.Segment },
			)
			assert.True(t, on, "%s: %s is not on %s", name, c.Machine, c.Segment)
		}
		for _, g := range pic.Gates {
			require.NotNil(t, p.Machine(g.Name).Appliance, name)
			drawn := slices.ContainsFunc(
				pic.Shapes,
				func(s Shape) bool { return s.Kind == Rectangle && s.Box == g.Box },
			)
			assert.True(t, drawn, "%s: %s", name, g.Name)
		}
	}
}

// Boxes of guests, gates and segments keep apart too, and no line of a link
// runs through one that it does not end at.
func TestLinksGoAround(t *testing.T) {
	for name, p := range labs(t) {
		l := &layout{
			Picture: &Picture{},
			t:       grow(p, Options{}),
			routes:  map[route][]Point{},
			ends:    map[*block][2]float64{},
		}
		l.place()
		var boxes []Box
		for _, b := range l.all() {
			boxes = append(boxes, b.bar)
			for _, e := range b.entries {
				boxes = append(boxes, e.box)
			}
		}
		for _, m := range p.Running() {
			boxes = append(boxes, l.gateOf(m).box)
		}
		for i, a := range boxes {
			for _, b := range boxes[:i] {
				require.False(t, a.Overlaps(b), "%s: %v and %v", name, a, b)
			}
		}
		l.links()
		for r, way := range l.routes {
			for i := range way[1:] {
				a, b := way[i], way[i+1]
				leg := Box{
					min(a.X, b.X) + .1,
					min(a.Y, b.Y) + .1,
					max(a.X, b.X) - min(a.X, b.X) - .2,
					max(a.Y, b.Y) - min(a.Y, b.Y) - .2,
				}
				leg.W, leg.H = max(leg.W, .01), max(leg.H, .01)
				for _, box := range boxes {
					assert.False(
						t,
						leg.Overlaps(box),
						"%s: the line of %s to %s runs through %v",
						name,
						r.m.Name,
						r.s.Name,
						box,
					)
				}
			}
		}
	}
}

// No lab that a person can write makes texts collide: any number of segments,
// appliances in rows, guests with many adapters, tags, long names.
func TestAnyLab(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[a-z][a-z0-9-]{0,24}[a-z0-9]`)
		var b strings.Builder
		fmt.Fprintf(&b, "bastion: 1\nlab: every\nipv6: %t\ntitle: %q\nsegments:\n", rapid.Bool().Draw(t, "ipv6"),
			strings.Repeat("long ", rapid.IntRange(1, 40).Draw(t, "title")))
		n := rapid.IntRange(1, 7).Draw(t, "segments")
		segments := rapid.SliceOfNDistinct(name, n, n, rapid.ID[string]).Draw(t, "names")
		for i, s := range segments {
			reach := rapid.SampledFrom([]string{"upstream", "isolated", "isolated", "host"}).Draw(t, "reach")
			if i == 0 {
				reach = "upstream"
			}
			fmt.Fprintf(&b, "  %s: {reach: %s}\n", s, reach)
		}
		one := func() string { return rapid.SampledFrom(segments).Draw(t, "segment") }
		b.WriteString("appliances:\n")
		for i := range rapid.IntRange(1, 4).Draw(t, "appliances") {
			fmt.Fprintf(&b, "  gate%d:\n    ports:\n", i)
			used := map[string]bool{}
			for k := range rapid.IntRange(1, 5).Draw(t, "ports") {
				s := one()
				if used[s] {
					continue
				}
				used[s] = true
				fmt.Fprintf(
					&b,
					"      - {role: %s, name: p%d, segment: %s, plugged: %t}\n",
					rapid.SampledFrom([]string{"wan", "lan", "dmz", "manage"}).
						Draw(t, "role"),
					k,
					s,
					rapid.Bool().Draw(t, "plugged"),
				)
			}
		}
		b.WriteString("guests:\n")
		for i := range rapid.IntRange(1, 14).Draw(t, "guests") {
			var adapters []string
			for range rapid.IntRange(1, 3).Draw(t, "adapters") {
				adapters = append(adapters, "{segment: "+one()+"}")
			}
			fmt.Fprintf(
				&b,
				"  guest%d: {adapters: [%s], forwards: %t}\n",
				i,
				strings.Join(adapters, ", "),
				rapid.Bool().Draw(t, "forwards"),
			)
		}
		l, err := lab.Read("lab.yaml", []byte(b.String()))
		require.NoError(t, err, b.String())
		p, err := plan.Build(l)
		if err != nil {
			t.Skip("no plan can be made of it")
		}
		o := Options{All: rapid.Bool().Draw(t, "all")}
		pic := Of(p, o)
		var labels []Shape
		for _, s := range pic.Shapes {
			if s.Kind != Label {
				continue
			}
			for _, o := range labels {
				require.False(t, s.Box.Overlaps(o.Box), "%q lies over %q in\n%s", s.Text, o.Text, b.String())
			}
			require.True(
				t,
				s.Box.X >= 0 && s.Box.right() <= pic.W && s.Box.Y >= 0 && s.Box.bottom() <= pic.H,
				"%q leaves the picture of\n%s",
				s.Text,
				b.String(),
			)
			labels = append(labels, s)
		}
		require.NoError(t, pic.SVG(io.Discard, Dark))
		require.NotEmpty(t, Text(p, o, 80))
	})
}

func TestForms(t *testing.T) {
	dir := t.TempDir()
	p := example(t, "saltmarsh-leaky")
	pic := Of(p, Options{Verdict: rehearsed(t, p)})
	assert.NotEmpty(t, pic.Shapes)
	for _, g := range []Ground{Light, Dark} {
		var s, i, d bytes.Buffer
		require.NoError(t, pic.SVG(&s, g))
		require.NoError(t, pic.PNG(&i, g, 1.5))
		require.NoError(t, pic.PDF(&d, g))
		for r := xml.NewDecoder(bytes.NewReader(s.Bytes())); ; {
			if _, err := r.Token(); err == io.EOF {
				break
			} else {
				require.NoError(t, err)
			}
		}
		img, err := png.Decode(&i)
		require.NoError(t, err)
		assert.Equal(t, int(pic.W*1.5), img.Bounds().Dx())
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.svg"), s.Bytes(), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.pdf"), d.Bytes(), 0o600))
		if _, err := exec.LookPath("rsvg-convert"); err == nil {
			out, err := exec.Command("rsvg-convert", "-o", filepath.Join(dir, "b.png"), filepath.Join(dir, "a.svg")).
				CombinedOutput()
			assert.NoError(t, err, string(out))
		}
		if _, err := exec.LookPath("pdftotext"); err == nil {
			out, err := exec.Command("pdftotext", filepath.Join(dir, "a.pdf"), "-").CombinedOutput()
			require.NoError(t, err, string(out))
			for _, m := range p.Machines {
				assert.Contains(t, string(out), m.Name)
			}
		}
	}
	assert.Error(t, pic.PNG(io.Discard, Light, 1000))
}

func BenchmarkThousandGuests(b *testing.B) {
	var text strings.Builder
	text.WriteString("bastion: 1\nlab: many\nsegments:\n  outer: {reach: upstream}\n")
	for i := range 20 {
		fmt.Fprintf(&text, "  s%d: {reach: isolated}\n", i)
	}
	text.WriteString("appliances:\n  gate:\n    ports:\n      - {role: wan, segment: outer}\n")
	for i := range 20 {
		fmt.Fprintf(&text, "      - {role: lan, name: p%d, segment: s%d}\n", i, i)
	}
	text.WriteString("guests:\n")
	for i := range 1000 {
		fmt.Fprintf(&text, "  guest%d: s%d\n", i, i%20)
	}
	p := planned(b, []byte(text.String()))
	for name, write := range map[string]func(*Picture) error{
		"svg": func(pic *Picture) error { return pic.SVG(io.Discard, Light) },
		"png": func(pic *Picture) error { return pic.PNG(io.Discard, Light, pic.Screen()) },
		"pdf": func(pic *Picture) error { return pic.PDF(io.Discard, Light) },
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, write(Of(p, Options{All: true})))
			}
		})
	}
}

// An escape that is painted begins at the guest, ends outside, keeps to the
// lines of the lab, and the gate is not on it when the guest goes around.
func TestEscapesArePainted(t *testing.T) {
	p := example(t, "saltmarsh-leaky")
	doc := rehearsed(t, p)
	l := &layout{
		Picture: &Picture{W: 2000},
		t:       grow(p, Options{}),
		routes:  map[route][]Point{},
		ends:    map[*block][2]float64{},
		judged:  judge(doc),
	}
	l.place()
	band := Box{margin, 44, 1000, 28}
	l.draw(band)
	l.links()
	require.Len(t, l.judged.ways, 2)
	gate := l.gateOf(p.Machine("sluice")).box
	for _, w := range l.judged.ways {
		way := l.trail(w.Path, band, 0)
		require.Greater(t, len(way), 3, w.Path)
		box := l.t.entries[p.Machine(w.From)].box
		assert.True(
			t,
			way[0].X >= box.X-1 && way[0].X <= box.right()+1 && way[0].Y >= box.Y && way[0].Y <= box.bottom(),
			"%v begins at %v, and %s is at %v",
			w.Path,
			way[0],
			w.From,
			box,
		)
		end := way[len(way)-1]
		assert.True(t, end.Y > band.Y && end.Y < band.bottom(), "%v ends at %v", w.Path, end)
		for i := range way[1:] {
			a, b := way[i], way[i+1]
			assert.True(t, a.X == b.X || a.Y == b.Y, "%v goes aslant from %v to %v", w.Path, a, b)
			leg := Box{
				min(a.X, b.X),
				min(a.Y, b.Y),
				max(.1, max(a.X, b.X)-min(a.X, b.X)),
				max(.1, max(a.Y, b.Y)-min(a.Y, b.Y)),
			}
			assert.False(t, leg.Overlaps(gate), "%v runs through the gate", w.Path)
		}
	}
	assert.Empty(t, l.trail([]string{"nobody", "nowhere"}, band, 0))
	painted := 0
	for _, s := range Of(p, Options{Verdict: doc}).Shapes {
		if s.Arrow && s.Ink == Broken {
			painted++
		}
	}
	assert.Equal(t, 2, painted)
}

// The worst of a group's verdicts is the group's, and a subject without claims
// has no sign.
func TestVerdictsOnGroups(t *testing.T) {
	o := draft.Options{}
	o.Lab, o.Shape, o.Guests = "bench", "one-lan", 20
	text, err := draft.Write(o)
	require.NoError(t, err)
	p := planned(t, text)
	signs := func(doc *verdict.Document) (broken, holds int) {
		for _, s := range Of(p, Options{Verdict: doc}).Shapes {
			if s.Kind == Line && s.Width == 2.2 && s.Ink == Broken {
				broken++
			}
			if s.Kind == Line && s.Width == 2 && s.Ink == TextInk && len(s.Points) == 3 {
				holds++
			}
		}
		return broken / 2, holds // a cross is two lines
	}
	doc := rehearsed(t, p)
	broken, before := signs(doc)
	assert.Zero(t, broken)
	assert.Positive(t, before)
	for i := range doc.Claims {
		if doc.Claims[i].ID == "guest17.no-bypass" {
			doc.Claims[i].Verdict = claims.Broken
		}
	}
	doc.Verdict = claims.Broken
	broken, after := signs(doc)
	assert.Equal(t, 4, broken, "the group's, the whole's, the claim's own, and the legend's")
	assert.Equal(t, before-2, after)
	assert.Contains(t, strings.Join(Text(p, Options{Verdict: doc}, 80), "\n"), "· ✗ 20 guests")
}

// Every ink can be read on its ground, and outside, inside and broken stay
// apart for readers who see few colours.
func TestInks(t *testing.T) {
	linear := func(c color.NRGBA) [3]float64 {
		var out [3]float64
		for i, v := range []uint8{c.R, c.G, c.B} {
			if x := float64(v) / 255; x <= 0.04045 {
				out[i] = x / 12.92
			} else {
				out[i] = math.Pow((x+0.055)/1.055, 2.4)
			}
		}
		return out
	}
	luminance := func(v [3]float64) float64 { return 0.2126*v[0] + 0.7152*v[1] + 0.0722*v[2] }
	contrast := func(a, b [3]float64) float64 {
		x, y := luminance(a)+0.05, luminance(b)+0.05
		return math.Max(x, y) / math.Min(x, y)
	}
	// How the colour-blind see (Machado, Oliveira and Fernandes 2009, severity 1).
	sights := map[string][3][3]float64{
		"usual": {{1, 0, 0}, {0, 1, 0}, {0, 0, 1}},
		"protanopia": {
			{0.152286, 1.052583, -0.204868},
			{0.114503, 0.786281, 0.099216},
			{-0.003882, -0.048116, 1.051998},
		},
		"deuteranopia": {
			{0.367322, 0.860646, -0.227968},
			{0.280085, 0.672501, 0.047413},
			{-0.011820, 0.042940, 0.968881},
		},
		"tritanopia": {
			{1.255528, -0.076749, -0.178779},
			{-0.078411, 0.930809, 0.147602},
			{0.004733, 0.691367, 0.303900},
		},
	}
	for _, g := range []Ground{Light, Dark} {
		paper := linear(g.color(Paper))
		for _, i := range []Ink{TextInk, Faint, Outside, Inside, Broken} {
			assert.GreaterOrEqual(t, contrast(linear(g.color(i)), paper), 4.5, "%s on %s", g.hex(i), g)
		}
		for ink, wash := range map[Ink]Ink{Outside: OutsideWash, Inside: InsideWash, Broken: BrokenWash} {
			assert.GreaterOrEqual(
				t,
				contrast(linear(g.color(ink)), linear(g.color(wash))),
				4.5,
				"%s on its wash",
				g.hex(ink),
			)
		}
		for name, m := range sights {
			seen := func(i Ink) (out [3]float64) {
				v := linear(g.color(i))
				for r := range 3 {
					x := math.Min(math.Max(m[r][0]*v[0]+m[r][1]*v[1]+m[r][2]*v[2], 0), 1)
					out[r] = math.Cbrt(x) // about even steps to the eye
				}
				return out
			}
			for _, pair := range [][2]Ink{{Outside, Inside}, {Outside, Broken}, {Inside, Broken}} {
				a, b := seen(pair[0]), seen(pair[1])
				d := math.Sqrt(math.Pow(a[0]-b[0], 2) + math.Pow(a[1]-b[1], 2) + math.Pow(a[2]-b[2], 2))
				assert.GreaterOrEqual(t, d, 0.2, "%s and %s on %s, %s", g.hex(pair[0]), g.hex(pair[1]), g, name)
			}
		}
	}
}

// A verdict may come from anybody; whatever it says, the diagram can be drawn.
func FuzzVerdict(f *testing.F) {
	f.Add(
		[]byte(
			`{"schema":"openbastion.verdict/1","lab":"saltmarsh","claims":[{"id":"heron.no-bypass","kind":"cut","guest":"heron",
		"verdict":"broken","escapes":[{"path":["heron","fen","gannet"]}]}]}`,
		),
	)
	p := example(f, "saltmarsh")
	f.Fuzz(func(t *testing.T, data []byte) {
		doc, err := verdict.ReadDocument(data)
		if err != nil {
			return
		}
		_ = doc.Causes
		doc.Guests()
		doc.Summary()
		var b bytes.Buffer
		require.NoError(t, Of(p, Options{Verdict: &doc}).SVG(&b, Light))
	})
}
