//go:build linux

package cli

import (
	"bytes"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"openbastion/internal/model/status"
)

// The picture of a lab that goes on fits the terminal, whatever happens in it: rates,
// what is stopped, leases, and the latest events.
func TestDrawView(t *testing.T) {
	now := status.Lab{Lab: "saltmarsh", Stage: "kernel", Phase: status.Running,
		Rules: []status.Rule{
			{
				Appliance: "sluice",
				Number:    1,
				Text:      "deny any from tidepool to any",
				Blocks:    true,
				Hits:      status.Traffic{Packets: 12345},
			},
			{
				Appliance: "sluice",
				Number:    2,
				Text:      "allow any from reedbed to outside",
				Hits:      status.Traffic{Packets: 7},
			},
			{Appliance: "sluice", Blocks: true},
		},
		Leases: []status.Lease{
			{Segment: "reedbed", Server: "sluice", Hostname: "heron", Address: netip.MustParseAddr("10.83.16.50")},
		}}
	c := status.Change{
		At: time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC),
		Segments: []status.SegmentRate{{Name: "causeway", Rate: status.Rate{Packets: 3, Bytes: 1}},
			{Name: "reedbed", Rate: status.Rate{Packets: 1000, Bytes: 5 << 20}}, {Name: "tidepool"}},
	}
	for i := range 300 {
		kind, text := status.FlowBegun, "a flow, and then what it is about at some length, so that it has to be cut at the edge of a narrow terminal: \x1b[31mnot red"
		if i == 299 {
			kind, text = status.Escaped, "otter gets out on causeway"
		}
		c.Events = append(c.Events, status.Event{At: c.At, Kind: kind, Text: text})
	}
	c.Events = append(c.Events, status.Event{Kind: status.Blocked, Text: "counted in its table"})
	for _, height := range []int{5, 24, 60} {
		for _, columns := range []string{"60", "138"} {
			t.Setenv("COLUMNS", columns)
			var out bytes.Buffer
			a := &app{out: &out, color: "never"}
			v := &view{segments: map[string]style{"reedbed": inside}}
			v.take(c)
			assert.LessOrEqual(t, len(v.events), maxEvents)
			a.drawView(v, now, c, height)
			text, ok := strings.CutPrefix(out.String(), "\x1b[H\x1b[2J")
			assert.True(t, ok)
			assert.NotContains(t, text, "\x1b", "what is told is text")
			lines := strings.Split(text, "\n")
			assert.LessOrEqual(t, len(lines), height)
			for _, line := range lines {
				assert.LessOrEqual(t, width(line), map[string]int{"60": 60, "138": 138}[columns], "%q", line)
			}
			if height < 24 {
				continue
			}
			for _, want := range []string{"saltmarsh", "12,345", "5 MiB", "10.83.16.50", "✗ otter gets out on causeway"} {
				assert.Contains(t, text, want)
			}
			assert.NotContains(t, text, "counted in its table")
			bar := strings.Repeat("█", 24)
			assert.Contains(t, text, bar, "who carries most has the longest bar")
			assert.Equal(t, 25, strings.Count(text, "█"), "and who carries anything has one")
		}
	}
}

// Amounts are said in few letters.
func TestSize(t *testing.T) {
	for n, want := range map[uint64]string{0: "0 B", 1023: "1023 B", 1024: "1 KiB", 1536: "1.5 KiB", 5 << 20: "5 MiB", 3 << 30: "3 GiB", 1 << 50: "1024 TiB"} {
		assert.Equal(t, want, size(n))
	}
}
