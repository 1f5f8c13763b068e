package dissect

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// flat writes layers in one line.
func flat(list []Layer) string {
	var parts []string
	for _, l := range list {
		var fields []string
		for _, f := range l.Fields {
			fields = append(fields, f.Name+" "+f.Value)
		}
		parts = append(parts, l.Name+" "+strings.Join(fields, "; "))
	}
	return strings.Join(parts, " | ")
}

func TestOf(t *testing.T) {
	for _, c := range []struct{ frame, want string }{
		{"ffffffffffff 025b00000001 0806 0001 0800 06 04 0001 025b00000001 0a531014 000000000000 0a531001",
			"Ethernet from 02:5b:00:00:00:01; to ff:ff:ff:ff:ff:ff (everybody); type 0x0806 ARP | ARP asks who has 10.83.16.1?; for 10.83.16.20 at 02:5b:00:00:00:01"},
		{"025b00000002 025b00000001 8100 0030 0800 4500 001c 0001 0000 40 01 4626 0a531014 0a531001 0800 f7fd 0001 0001",
			"Ethernet from 02:5b:00:00:00:01; to 02:5b:00:00:00:02; tag 48; type 0x0800 IPv4 | IPv4 source 10.83.16.20; destination 10.83.16.1; hops left 64; protocol 1 ICMP | ICMP type 8 echo request, code 0; identifier 1, sequence 1"},
		{"025b00000002", "data length 6 bytes; not read packet: frame is shorter than its headers require"},
	} {
		frame, err := hex.DecodeString(strings.ReplaceAll(c.frame, " ", ""))
		require.NoError(t, err)
		got := flat(Of(frame))
		assert.True(t, strings.HasPrefix(got, c.want), got)
		assert.Equal(t, (len(frame)+15)/16, strings.Count(Dump(frame), "\n"))
	}
}

// No frame, however mangled, stops it.
func FuzzOf(f *testing.F) {
	for _, s := range []string{
		"ffffffffffff025b0000000108060001080006040001025b000000010a531014000000000000 0a531001",
		"025b00000002025b00000001080045000028000100004006bbbb0a5310140a531001005000510000000100000002501200000000000000",
		"025b00000002025b0000000108004500001c000120004011bbbb0a5310140a531001004300440008000001020304",
	} {
		b, _ := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, frame []byte) {
		if len(Of(frame)) == 0 {
			t.Error("nothing to say")
		}
	})
}
