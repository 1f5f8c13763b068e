package listing

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told writes what was read, a thing to a line.
func told(l Listing) string {
	var b strings.Builder
	for _, i := range l.Interfaces {
		b.WriteString("interface")
		say := func(key string, ok bool, v any) {
			if ok {
				fmt.Fprintf(&b, " %s=%v", key, v)
			}
		}
		say("device", i.Device != "", i.Device)
		say("label", i.Label != "", i.Label)
		say("number", i.Number != 0, i.Number)
		say("mac", i.Tail != "", pairs(i.Tail))
		for _, a := range i.Addresses {
			mask := "/?"
			if a.Masked {
				mask = fmt.Sprintf("/%d", a.Bits())
			}
			say("address", true, a.Addr().String()+mask)
		}
		say("link", i.Link != LinkUnknown, []string{"", "up", "down"}[i.Link])
		say("network", i.Network != "", i.Network)
		say("lease", i.Lease != LeaseUnsaid, []string{"", "yes", "no"}[i.Lease])
		say("from", i.LeaseServer.IsValid(), i.LeaseServer)
		say("gateway", i.NoGateway, "none")
		say("tag", i.Tag != 0, i.Tag)
		say("machine", i.Machine != "", i.Machine)
		b.WriteString("\n")
	}
	for _, r := range l.Routes {
		fmt.Fprintln(&b, strings.TrimSpace(strings.Join([]string{"route", r.Gateway.String(), r.Device, r.Machine}, " ")))
	}
	for _, r := range l.Resolvers {
		fmt.Fprintln(&b, strings.TrimSpace(strings.Join([]string{"resolver", r.Address.String(), r.Machine}, " ")))
	}
	for _, n := range l.Neighbors {
		fmt.Fprintln(&b, "neighbor", n.Address, pairs(n.Tail))
	}
	for _, a := range l.Answers {
		fmt.Fprintf(&b, "answer %q to %q\n", a.Text, a.Question)
	}
	for _, s := range l.Slips {
		fmt.Fprintf(&b, "slip on line %d: %s\n", s.Line, s.Text)
	}
	for _, u := range l.Unread {
		fmt.Fprintf(&b, "unread line %d: %s\n", u.Line, u.Text)
	}
	return b.String()
}

// Each paste of the corpus gives what stands in the file beside it, written down
// from the paste. UPDATE=1 writes what is read now, to be read over.
func TestPastes(t *testing.T) {
	files, err := filepath.Glob("testdata/pastes/*.txt")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 70)
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		got := told(Read(string(data)))
		beside := strings.TrimSuffix(file, ".txt") + ".read"
		if os.Getenv("UPDATE") != "" {
			require.NoError(t, os.WriteFile(beside, []byte(got), 0o644))
		}
		want, err := os.ReadFile(beside)
		require.NoError(t, err)
		assert.Equal(t, string(bytes.TrimSpace(want)), strings.TrimSpace(got), file)
	}
}
