package status_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"openbastion/internal/model/status"
)

func ap(text string) netip.AddrPort { return netip.MustParseAddrPort(text) }

var at = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

// Each thing that can happen between two looks is told once, and nothing is when nothing
// happened.
func TestCompare(t *testing.T) {
	base := status.Lab{Lab: "saltmarsh", Phase: status.Running,
		Machines: []status.Machine{
			{Name: "heron", Adapters: []status.Adapter{{Number: 1, Name: "adapter 1", Segment: "reedbed", Plugged: true,
				Address: netip.MustParsePrefix("10.83.16.50/24"), Sent: status.Traffic{Packets: 10, Bytes: 1000}}}},
		},
		Segments: []status.Segment{{Name: "reedbed", Carried: status.Traffic{Packets: 100, Bytes: 10000}}},
		Leases: []status.Lease{
			{Segment: "reedbed", Server: "sluice", Address: netip.MustParseAddr("10.83.16.50"), Hostname: "heron"},
		},
		Rules: []status.Rule{
			{
				Appliance: "sluice",
				Number:    1,
				Text:      "deny any from tidepool to any",
				Blocks:    true,
				Hits:      status.Traffic{Packets: 5},
			},
			{
				Appliance: "sluice",
				Number:    2,
				Text:      "allow any from reedbed to outside",
			},
			{Appliance: "sluice", Text: "the rest", Blocks: true},
		},
		Flows: []status.Flow{
			{Appliance: "sluice", Protocol: "tcp", From: ap("10.83.16.50:1000"), To: ap("203.0.113.80:80"), Packets: 3},
		},
		Log: []status.Logged{{At: at.Add(-time.Minute), Appliance: "sluice", Rule: "1"}},
	}
	for _, c := range []struct {
		name   string
		change func(l *status.Lab)
		want   []string
	}{
		{"nothing", func(*status.Lab) {}, nil},
		{"a rule stops packets", func(l *status.Lab) { l.Rules[0].Hits.Packets = 9 },
			[]string{"blocked sluice 1 4: sluice stops 4 by rule 1: deny any from tidepool to any"}},
		{"counters that began anew", func(l *status.Lab) { l.Rules[0].Hits.Packets = 2 },
			[]string{"blocked sluice 1 2: sluice stops 2 by rule 1: deny any from tidepool to any"}},
		{"no rule allows it", func(l *status.Lab) { l.Rules[2].Hits.Packets = 1 }, []string{"blocked sluice 0 1: sluice stops 1: no rule allows it"}},
		{"what is allowed is not blocked", func(l *status.Lab) { l.Rules[1].Hits.Packets = 7 }, nil},
		{"a lease", func(l *status.Lab) {
			l.Leases = append(l.Leases, status.Lease{Segment: "reedbed", Server: "sluice", Address: netip.MustParseAddr("10.83.16.51")})
		}, []string{"lease  0 0: 00:00:00:00:00:00 gets 10.83.16.51 from sluice"}},
		{"a lease ends", func(l *status.Lab) { l.Leases = nil }, []string{"released heron 0 0: heron has 10.83.16.50 from sluice no more"}},
		{"a flow", func(l *status.Lab) {
			l.Flows = append(l.Flows, status.Flow{Appliance: "sluice", Protocol: "icmp", From: ap("10.83.16.50:0"), To: ap("203.0.113.80:0"),
				AnswerTo: ap("172.29.64.9:0"), Packets: 1})
		}, []string{"flow sluice 0 0: icmp from 10.83.16.50 to 203.0.113.80 through sluice, seen as 172.29.64.9"}},
		{"a flow without a packet yet", func(l *status.Lab) {
			l.Flows = append(l.Flows, status.Flow{Appliance: "sluice", Protocol: "udp", From: ap("10.83.16.50:7"), To: ap("203.0.113.80:7")})
		}, nil},
		{"an escape", func(l *status.Lab) {
			l.Escapes = []status.Escape{{At: at, Guest: "otter", Segment: "causeway", Packet: "udp from a to b"}}
		}, []string{"escape otter 0 0: otter gets out on causeway: udp from a to b"}},
		{"a log line", func(l *status.Lab) {
			l.Log = append(l.Log, status.Logged{At: at, Appliance: "sluice", Rule: "1: deny", Protocol: "tcp", From: ap("10.0.0.1:1"), To: ap("10.0.0.2:2")})
		}, []string{"logged sluice 0 0: sluice: 1: deny, tcp from 10.0.0.1:1 to 10.0.0.2:2"}},
		{"unplugged", func(l *status.Lab) { l.Machines[0].Adapters[0].Plugged = false },
			[]string{"unplugged heron 0 0: adapter 1 of heron is unplugged"}},
		{"an address", func(l *status.Lab) { l.Machines[0].Adapters[0].Address = netip.Prefix{} },
			[]string{"address heron 0 0: adapter 1 of heron has no address now"}},
		{"a failure", func(l *status.Lab) { l.Failure = "its command ended" }, []string{"failure  0 0: its command ended"}},
	} {
		now := copied(base)
		c.change(&now)
		var got []string
		for _, e := range status.Compare(base, now, at, time.Second).Events {
			got = append(got, fmt.Sprintf("%s %s %d %d: %s", e.Kind, e.Machine, e.Rule, e.Packets, e.Text))
		}
		assert.Equal(t, c.want, got, c.name)
		var back []string
		for _, e := range status.Compare(now, now, at, time.Second).Events {
			back = append(back, e.Text)
		}
		assert.Empty(t, back, "%s, looked at again", c.name)
	}
}

// copied returns a lab whose lists can be changed.
func copied(l status.Lab) status.Lab {
	l.Rules = append([]status.Rule{}, l.Rules...)
	l.Machines = append([]status.Machine{}, l.Machines...)
	l.Machines[0].Adapters = append([]status.Adapter{}, l.Machines[0].Adapters...)
	l.Segments = append([]status.Segment{}, l.Segments...)
	return l
}

// Rates are by the second, whatever the time between the looks.
func TestRates(t *testing.T) {
	before := status.Lab{
		Segments: []status.Segment{{Name: "reedbed", Carried: status.Traffic{Packets: 100, Bytes: 1000}}},
		Machines: []status.Machine{
			{Name: "heron", Adapters: []status.Adapter{{Number: 1, Received: status.Traffic{Packets: 1, Bytes: 10}}}},
		},
	}
	now := status.Lab{Segments: []status.Segment{{Name: "reedbed", Carried: status.Traffic{Packets: 150, Bytes: 2000}}},
		Machines: []status.Machine{
			{Name: "heron", Adapters: []status.Adapter{{Number: 1, Received: status.Traffic{Packets: 5, Bytes: 50}}}},
		}}
	c := status.Compare(before, now, at, 500*time.Millisecond)
	assert.Equal(t, []status.SegmentRate{{Name: "reedbed", Rate: status.Rate{Packets: 100, Bytes: 2000}}}, c.Segments)
	assert.Equal(t, status.Rate{Packets: 8, Bytes: 80}, c.Adapters[0].Received)
	assert.Equal(t, status.Rate{}, status.Compare(before, now, at, 0).Adapters[0].Received)
}
