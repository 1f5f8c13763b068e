package openbastion

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/verify/claims"
)

// ruled is a lab with rules about single ports, ranges and prefixes.
func (d dice) ruled() string {
	var rules []string
	for range 2 + d.IntN(5) {
		port := d.one("80", "82", "80-82", "81-84", "83", "84-90")
		outside := d.one("outside", "198.51.100.0/30", "198.51.100.4", "198.51.100.5/32", "198.51.100.0/29")
		switch d.IntN(3) {
		case 0:
			rules = append(rules, fmt.Sprintf("%s tcp/%s from %s to %s", d.one("allow", "deny"), port,
				d.one("fen", "tern", "wren", "10.83.17.16/28"), d.one("quay", "rail", "crake", "10.83.33.16/28")))
		case 1:
			rules = append(rules, fmt.Sprintf("%s tcp/%s from %s to rail", d.one("allow", "deny"), port, outside))
		default:
			rules = append(rules, fmt.Sprintf("%s tcp/%s from fen to %s", d.one("allow", "deny"), port, outside))
		}
	}
	return `bastion: 1
lab: drawn
segments:
  moor: {reach: upstream, subnet: 172.29.70.0/24, gateway: 172.29.70.1}
  fen: {reach: isolated, subnet: 10.83.17.0/24}
  quay: {reach: isolated, subnet: 10.83.33.0/24}
appliances:
  weir:
    ports:
      - {role: wan, segment: moor, address: 172.29.70.9/24}
      - {role: lan, segment: fen}
      - {role: lan, name: quay, segment: quay}
    nat: {publish: [{port: tcp/80, to: rail}, {port: tcp/83, to: rail}]}
    rules:
      - ` + strings.Join(rules, "\n      - ") + `
guests:
  tern: {segment: fen, reserve: 10.83.17.20}
  wren: {segment: fen, reserve: 10.83.17.40}
  rail: {segment: quay, reserve: 10.83.33.20}
  crake: {segment: quay, reserve: 10.83.33.40}
expect:
`
}

// A sentence about several senders, receivers or ports says what sentences about each say together: reaches holds when
// each of them does, but of addresses outside one that is reached is enough; never reaches holds when each does.
func TestSentenceOfManyIsOfEach(t *testing.T) {
	const ports, block = "80 81 82 83 84", "198.51.100.1 198.51.100.2 198.51.100.3 198.51.100.4 198.51.100.5 198.51.100.6"
	many := []struct {
		sentence, each string // each with {} for one
		of             string
		enough         bool // one that is reached is enough
	}{
		{"tern %s rail tcp/80-84", "tern %s rail tcp/{}", ports, false},
		{"fen %s rail tcp/82", "{} %s rail tcp/82", "tern wren", false},
		{"tern %s quay tcp/81", "tern %s {} tcp/81", "rail crake", false},
		{"10.83.17.16/28 %s rail tcp/83", "{} %s rail tcp/83", "tern", false},
		{"outside %s rail tcp/80-84", "outside %s rail tcp/{}", ports, false},
		{"198.51.100.0/29 %s rail tcp/80", "{} %s rail tcp/80", block, false},
		{"tern %s 198.51.100.0/29 tcp/82", "tern %s {} tcp/82", block, true},
		{"wren %s outside tcp/80-84", "wren %s outside tcp/{}", ports, false},
	}
	hold := map[bool]int{}
	for _, seed := range drawn(t, 240) {
		d := dice{rand.New(rand.NewPCG(uint64(seed), 17))}
		text := d.ruled()
		m := many[d.IntN(len(many))]
		verb := d.one("reaches", "never reaches")
		text += "  - " + fmt.Sprintf(m.sentence, verb) + "\n"
		parts := strings.Fields(m.of)
		for _, x := range parts {
			text += "  - " + fmt.Sprintf(strings.ReplaceAll(m.each, "{}", x), verb) + "\n"
		}
		require.NotNil(t, planned(text), text)
		verdicts := judged(text)
		holds := func(i int) bool { return verdicts[fmt.Sprintf("expect-%d.expect", i)].Verdict == claims.Holds }
		all, some := true, false
		for i := range parts {
			all, some = all && holds(i+2), some || holds(i+2)
		}
		want := all
		if m.enough && verb == "reaches" {
			want = some
		}
		if m.sentence == "tern %s quay tcp/81" && verb == "never reaches" {
			want = want && holds(1) // its network has more addresses than guests: fewer sentences hold of it
		}
		hold[want]++
		assert.Equal(t, want, holds(1), "seed %d\n%s", seed, text)
	}
	assert.Greater(t, min(hold[true], hold[false]), 3)
}
