//go:build linux

package hostnet

import (
	"errors"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"

	"github.com/google/nftables"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// apart runs a function on a thread with a network of its own, which stands for the
// machine.
func apart(t *testing.T, f func()) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			t.Error(err)
			return
		}
		f()
	}()
	<-done
}

func forwards(t *testing.T) string {
	data, err := os.ReadFile(path("net.ipv4.ip_forward"))
	require.NoError(t, err)
	return strings.TrimSpace(string(data))
}

// machine is what labs change: the tables, the devices and the setting.
func machine(t *testing.T) string {
	n, err := nftables.New()
	require.NoError(t, err)
	list, err := n.ListTables()
	require.NoError(t, err)
	var out []string
	for _, x := range list {
		out = append(out, "table "+x.Name)
	}
	links, err := netlink.LinkList()
	require.NoError(t, err)
	for _, l := range links {
		out = append(out, "link "+l.Attrs().Name)
	}
	return strings.Join(append(out, "forwards "+forwards(t)), ", ")
}

// joinedLab changes the machine as a lab that is joined does, and gives what it noted.
func joinedLab(t *testing.T, name string) (noted []Change) {
	note := func(c Change) error { noted = append(noted, c); return nil }
	require.NoError(t, note(Change{Kind: Link, Name: "lab-" + name}))
	require.NoError(
		t,
		netlink.LinkAdd(&netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: "lab-" + name}, PeerName: "far-" + name}),
	)
	require.NoError(t, Forward(note))
	require.NoError(t, note(Change{Kind: Table, Name: TablePrefix + name}))
	n, err := nftables.New()
	require.NoError(t, err)
	n.AddTable(&nftables.Table{Family: nftables.TableFamilyINet, Name: TablePrefix + name})
	require.NoError(t, n.Flush())
	return noted
}

// What labs change is taken back by what was noted, in whatever order they end, and as
// often as it is asked for; the last of them takes back what they share.
func TestUndo(t *testing.T) {
	apart(t, func() {
		before := machine(t)
		require.Equal(t, "0", forwards(t))
		for _, order := range [][]int{{0, 1, 2}, {2, 1, 0}, {1, 0, 2}, {1, 2, 0}} {
			var labs [][]Change
			for _, name := range []string{"a", "b", "c"} {
				labs = append(labs, joinedLab(t, name))
			}
			assert.Equal(t, "1", forwards(t))
			for i, at := range order {
				require.NoError(t, Undo(labs[at]))
				require.NoError(t, Undo(labs[at]), "once more is no error")
				if i < len(order)-1 {
					assert.Equal(t, "1", forwards(t), "%v: another lab needs it", order)
				}
			}
			assert.Equal(t, before, machine(t), "%v", order)
		}
	})
}

// Where the machine forwards anyway that is none of a lab's business, and stays.
func TestForwardsAnyway(t *testing.T) {
	apart(t, func() {
		require.NoError(t, os.WriteFile(path("net.ipv4.ip_forward"), []byte("1"), 0))
		before := machine(t)
		noted := joinedLab(t, "a")
		for _, c := range noted {
			assert.NotEqual(t, Setting, c.Kind)
		}
		require.NoError(t, Undo(noted))
		assert.Equal(t, before, machine(t))
	})
}

// What cannot be written down is not done.
func TestNotNotedNotDone(t *testing.T) {
	apart(t, func() {
		before := machine(t)
		full := errors.New("the disk is full")
		assert.ErrorIs(t, Forward(func(Change) error { return full }), full)
		assert.Equal(t, before, machine(t))
		assert.ErrorContains(
			t,
			Undo([]Change{{Kind: "moon", Name: "x"}, {Kind: Table, Name: "bastion_gone"}}),
			"not known",
		)
		if _, err := exec.LookPath("nft"); err == nil {
			out, err := exec.Command("nft", "list", "tables").CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	})
}

// A change says what it was.
func TestChangesSay(t *testing.T) {
	for want, c := range map[string]Change{"link bastion1": {Kind: Link, Name: "bastion1"}, "table bastion_x": {Kind: Table, Name: "bastion_x"},
		"setting net.ipv4.ip_forward, which was 0": {Kind: Setting, Name: "net.ipv4.ip_forward", Was: "0"}} {
		assert.Equal(t, want, c.String())
	}
}
