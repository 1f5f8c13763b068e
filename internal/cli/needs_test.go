package cli

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/verify/check"
)

// needFiles are what the calls of docs/needs.md look at beside the example labs.
var needFiles = map[string]string{
	"installed.yaml": `bastion: 1
lab: installed
segments: {outer: {reach: upstream}, inner: {reach: isolated}}
appliances:
  gate:
    profile: ./ours.yaml
    image: {file: gate.iso, evaluation: {from: 2026-11-20, days: 15}}
    ports: [{role: wan, segment: outer}, {role: lan, segment: inner}]
guests: {heron: inner}
`,
	"ours.yaml": `bastion-profile: 1
name: ours
installing: [outside]
waits: [{for: the first start, time: 4 minutes, longer: look at the console}]
`,
	"open.yaml": `bastion: 1
lab: open
segments: {inner: {reach: isolated}}
appliances: {gate: {ports: [{role: wan}, {role: lan, segment: inner}]}}
guests: {heron: inner}
`,
	"alone.yaml": `bastion: 1
lab: alone
segments: {outer: {reach: upstream}, inner: {reach: isolated}}
appliances: {gate: {ports: [{role: wan, segment: outer}, {role: lan, segment: inner}]}}
`,
	"slip.yaml": "bastion: 1\nlab: slip\nsegments: {inner: {reach: isolated, subnet: 10.83.16.16.0/24}}\n",
	"heron.txt": `2: enp1s0: <BROADCAST,MULTICAST,UP> mtu 1500
    link/ether 02:5b:ac:3f:e7:01 brd ff:ff:ff:ff:ff:ff
    inet 10.83.16.57/24 brd 10.83.16.255 scope global dynamic enp1s0
default via 10.83.16.1 dev enp1s0 proto dhcp src 10.83.16.57
nameserver 10.83.16.1
`,
	"gate.txt":    "wan -> eth0 -> v4: 172.29.64.130/24\nlan -> eth1 -> v4: 10.83.16.1/24\ndefault via 172.29.64.1 dev eth0\n",
	"console.txt": "eth0 025b.ac50.c201\neth1 02-5B-AC-50-C2-02\neth2 02:5b:ac:50:c2:03\n",
}

// Every need is in the table once, and every row is true: the call says what it is said
// to, and the findings that are named are in the catalogue.
func TestNeedsAreServed(t *testing.T) {
	table, err := os.ReadFile("../../docs/needs.md")
	require.NoError(t, err)
	sluice, err := os.ReadFile("../format/ovf/testdata/sluice.ovf")
	require.NoError(t, err)
	t.Chdir(t.TempDir())
	labs, err := examples.Labs.ReadDir(".")
	require.NoError(t, err)
	for _, f := range labs {
		data, err := examples.Labs.ReadFile(f.Name())
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(f.Name(), data, 0o600))
	}
	for name, text := range needFiles {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	}
	require.NoError(t, os.WriteFile("sluice.ovf", sluice, 0o600))
	named := regexp.MustCompile("`([a-z][a-z0-9-]+)`")
	var seen []string
	said := map[string]string{}
	for _, line := range strings.Split(string(table), "\n") {
		cells := strings.Split(strings.Trim(line, "| "), " | ")
		if len(cells) != 5 || cells[0] == "need" || strings.HasPrefix(cells[0], "---") {
			continue
		}
		seen = append(seen, cells[0])
		call := strings.Trim(cells[3], "`")
		if _, done := said[call]; !done {
			said[call] = strings.Join(strings.Fields(run(strings.Fields(call)[1:]...)), " ")
		}
		assert.Contains(t, said[call], cells[4], "%s: %s", cells[0], call)
		if _, findings, ok := strings.Cut(cells[2], "finding"); ok {
			findings, _, _ = strings.Cut(strings.TrimPrefix(findings, "s"), ";")
			for _, m := range named.FindAllStringSubmatch(findings, -1) {
				_, ok := check.Lookup(m[1])
				assert.True(t, ok, "%s: no finding %s", cells[0], m[1])
			}
		}
	}
	var want []string
	for _, part := range []struct {
		letter string
		n      int
	}{{"A", 23}, {"B", 9}, {"C", 20}, {"D", 18}, {"E", 10}, {"F", 11}, {"G", 9}, {"H", 10}, {"I", 7}, {"J", 8}, {"K", 6}, {"L", 6}} {
		for i := range part.n {
			want = append(want, fmt.Sprint(part.letter, i+1))
		}
	}
	assert.Equal(t, want, seen)
}
