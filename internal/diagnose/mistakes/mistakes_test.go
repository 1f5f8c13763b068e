package mistakes_test

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/diagnose/mistakes"
	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/sampling"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
	"openbastion/internal/verify/verdict"
	"openbastion/profiles"
)

// rare has what no shape and no example has.
const rare = `
bastion: 1
lab: rare
segments:
  road: {reach: upstream, subnet: 203.0.113.0/24, gateway: 203.0.113.1}
  desks: {reach: isolated, subnet: 10.83.16.0/24}
  shop: {reach: isolated, subnet: 10.83.32.0/24}
appliances:
  gate:
    image: {file: gate.iso, evaluation: {from: 2026-11-20, days: 15}}
    ports:
      - {role: wan, segment: road, address: 203.0.113.7/24}
      - {role: lan, segment: desks}
      - {role: dmz, segment: shop}
    nat:
      one-to-one: [{outside: 203.0.113.9, inside: ferry}]
guests:
  heron: {adapters: [{segment: desks}, {segment: shop}]}
  otter: desks
  ferry: {segment: shop, static: 10.83.32.10/24}
`

// plans returns the plan of every shape and every example.
func plans(t *testing.T) map[string]*plan.Plan {
	t.Helper()
	text, ok := profiles.Profile("reference")
	require.True(t, ok)
	reference, err := lab.ReadProfile("reference", text)
	require.NoError(t, err)
	out := map[string]*plan.Plan{}
	read := func(name string, text []byte) {
		l, err := lab.Read(name, text)
		require.NoError(t, err, name)
		l.Profiles = map[string]*lab.Profile{"": reference}
		p, err := plan.Build(l)
		require.NoError(t, err, name)
		out[name] = p
	}
	for _, shape := range draft.Shapes {
		text, err := draft.Write(draft.Options{Lab: "bench", Shape: shape.Name})
		require.NoError(t, err)
		read(shape.Name, text)
	}
	files, err := examples.Labs.ReadDir(".")
	require.NoError(t, err)
	for _, f := range files {
		text, err := examples.Labs.ReadFile(f.Name())
		require.NoError(t, err)
		read(f.Name(), text)
	}
	read("rare", []byte(rare))
	return out
}

// Every kind is met in some lab; each mistake has its own name and its texts are whole; it
// can be made, changes nothing of the plan that it is made in, and gives a lab that
// differs from it.
func TestEveryMistakeCanBeMade(t *testing.T) {
	met := map[string]bool{}
	for name, p := range plans(t) {
		before, err := json.Marshal(p.Document())
		require.NoError(t, err)
		ids := map[string]bool{}
		for _, m := range mistakes.All(p) {
			id := m.ID()
			assert.False(t, ids[id], "%s: %s is there twice", name, id)
			ids[id], met[m.Name] = true, true
			for _, text := range []string{m.String(), m.Fill(m.Why), m.Fill(m.Look), m.Fill(m.Remedy)} {
				assert.NotContains(t, text, "{", "%s: %s", name, id)
				assert.NotContains(t, text, "invalid", "%s: %s: %s", name, id, text)
			}
			b, err := mistakes.Plant(p, m)
			if assert.NoError(t, err, "%s: %s", name, id) {
				reachability.New(b.Plan, p.Segments[0].Gateway) // a lab like any other
			}
		}
		after, err := json.Marshal(p.Document())
		require.NoError(t, err)
		assert.JSONEq(t, string(before), string(after), name)
	}
	for _, k := range mistakes.Kinds() {
		assert.True(t, met[k.Name], "%s is met in no lab", k.Name)
		if k.Finding != "" {
			_, ok := check.Lookup(k.Finding)
			assert.True(t, ok, "%s names the finding %s", k.Name, k.Finding)
		}
		assert.Positive(t, k.Weight, k.Name)
	}
	assert.GreaterOrEqual(t, len(mistakes.Kinds()), 70)
}

// overlapping reports whether two networks of a plan have addresses in common.
func overlapping(p *plan.Plan) bool {
	for i, a := range p.Segments {
		if slices.ContainsFunc(p.Segments[i+1:], func(b *plan.Segment) bool { return a.Subnet.Overlaps(b.Subnet) }) {
			return true
		}
	}
	return false
}

// names reports whether a cause speaks of the place where a mistake was made.
func names(c verdict.Cause, m mistakes.Mistake) bool {
	var places []string
	for _, a := range []*plan.Adapter{m.At.Adapter, m.At.Other} {
		if a != nil {
			places = append(places, a.Machine.Name, a.Segment.Name)
		}
	}
	for _, s := range []*plan.Segment{m.At.Segment, m.At.Onto} {
		if s != nil {
			places = append(places, s.Name)
		}
	}
	if m.At.Machine != nil {
		places = append(places, m.At.Machine.Name)
	}
	return slices.ContainsFunc(places, func(n string) bool {
		return strings.Contains(c.Subject+" "+c.Message, n)
	})
}

// Each mistake that a lab file can hold makes one more lab on which rehearsal and proof must
// say the same; and check mostly finds what the mistake is known by.
func TestMistakenLabsAreJudgedAlike(t *testing.T) {
	type tally struct{ found, tried int }
	kinds := map[string]*tally{}
	labs, judged, named := 0, 0, 0
	for name, p := range plans(t) {
		for i, m := range mistakes.All(p) {
			l, ok := m.File()
			if !ok || len(p.Machines) > 12 && i%7 > 0 || !sampling.Turn(i, 4) {
				continue
			}
			built, err := plan.Build(l)
			if err != nil {
				continue // such a file is refused
			}
			if overlapping(built) {
				continue // which of two networks an address is of is nobody's to say
			}
			labs++
			doc, _, err := claims.Run(context.Background(), built, simulator.New(built))
			require.NoError(t, err)
			assert.Empty(t, doc.Proof.Disagree, "%s: %s", name, m.ID())
			if kinds[m.Name] == nil {
				kinds[m.Name] = &tally{}
			}
			kinds[m.Name].tried++
			if first := verdict.Finish(built, doc).Causes; len(first) > 0 &&
				len(verdict.Finish(p, simulator.New(p).Outcome()).Causes) == 0 {
				judged++
				if first[0].Code == m.Finding || names(first[0], m) {
					named++
				} else {
					t.Logf("%s: %s: the first cause is %s: %s", name, m.ID(), first[0].Code, first[0].Message)
				}
			}
			if slices.ContainsFunc(
				check.Run(built, time.Time{}),
				func(f check.Finding) bool { return f.Code == m.Finding },
			) {
				kinds[m.Name].found++
			}
		}
	}
	assert.Greater(t, labs, 200)
	t.Logf("the first cause names %d of %d mistakes", named, judged)
	assert.GreaterOrEqual(t, named*100, judged*97)
	planned := []string{
		"twin-mac-guests",
		"twin-mac-port",
		"old-appliance-on",
		"wan-behind-host",
	} // the plan chooses what a file does not say
	for _, k := range mistakes.Kinds() {
		if c := kinds[k.Name]; c != nil && k.Finding != "" && !slices.Contains(planned, k.Name) {
			if c.tried < 6 && !sampling.All() {
				continue // too few of it today
			}
			assert.GreaterOrEqual(
				t,
				c.found*2,
				c.tried,
				"%s: %s is found in %d of %d",
				k.Name,
				k.Finding,
				c.found,
				c.tried,
			)
		}
	}
}
