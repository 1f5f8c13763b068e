//go:build linux

package kernel

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/supervisor"
)

// running starts a lab of a text.
func running(t *testing.T, text string) (*Lab, *plan.Plan) {
	p := planned(t, text)
	l, err := Up(t.Context(), p, Options{})
	require.NoError(t, err)
	t.Cleanup(l.Down)
	return l, p
}

// heron returns where the guest heron is.
func (l *Lab) heron() *Space { return l.stacks.machines[l.plan.Machine("heron")].space }

// said runs a shell command in a machine and gives what it said and its exit status.
func said(t *testing.T, l *Lab, machine, command string) (string, int) {
	out, in, err := os.Pipe()
	require.NoError(t, err)
	defer out.Close()
	null, err := os.Open(os.DevNull)
	require.NoError(t, err)
	defer null.Close()
	p, err := l.Start(
		machine,
		supervisor.Program{Args: []string{"sh", "-c", command}, Env: append(os.Environ(), "WORD=tide"), Dir: "/",
			Files: [3]*os.File{null, in, in}},
	)
	in.Close()
	require.NoError(t, err)
	text, err := io.ReadAll(out)
	require.NoError(t, err)
	return strings.TrimSpace(string(text)), p.Wait()
}

// A program in a machine has the machine's network, name and resolvers, the caller's
// environment, and this machine's files; what it mounts stays there; and it ends with
// the lab.
func TestPrograms(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	l, _ := running(t, `bastion: 1
lab: bench
segments:
  causeway: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  reedbed: {reach: isolated, subnet: 10.83.16.0/24}
appliances:
  sluice:
    ports: [{role: wan, segment: causeway}, {role: lan, segment: reedbed}]
guests:
  heron: reedbed
  otter: {segment: reedbed, static: 10.83.16.77/24, dns: [10.83.16.1, 9.9.9.9]}
`)
	before, err := os.ReadFile("/etc/resolv.conf")
	require.NoError(t, err)
	mounts, err := os.ReadFile("/proc/self/mountinfo")
	require.NoError(t, err)
	spare := t.TempDir()
	host, err := os.Hostname()
	require.NoError(t, err)
	for _, c := range []struct {
		machine, command, want string
		exit                   int
	}{
		{"heron", "cat /sys/class/net/eth0/address; ls /sys/class/net", l.plan.Machine("heron").Adapters[0].MAC.String() + "\neth0\nlo", 0},
		{"heron", "hostname; echo $WORD; pwd", "heron\ntide\n/", 0},
		{"heron", "grep -v '^#' /etc/resolv.conf", "nameserver 10.83.16.1", 0},
		{"otter", "grep -v '^#' /etc/resolv.conf", "nameserver 10.83.16.1\nnameserver 9.9.9.9", 0},
		{"sluice", "grep -v '^#' /etc/resolv.conf; cat /proc/sys/net/ipv4/ip_forward", "nameserver 127.0.0.1\n1", 0},
		{"heron", "exit 9", "", 9},
		{"heron", "kill -TERM $$", "", 128 + int(syscall.SIGTERM)},
		{"heron", "mount -t tmpfs none " + spare + " && touch " + spare + "/tide && ls " + spare, "tide", 0},
		{"heron", "ls " + spare, "tide", 0}, // it stays for the machine's other programs
		{"otter", "ls " + spare, "", 0},     // and for nobody else's
	} {
		got, exit := said(t, l, c.machine, c.command)
		assert.Equal(t, c.want, got, "%s: %s", c.machine, c.command)
		assert.Equal(t, c.exit, exit, "%s: %s", c.machine, c.command)
	}
	after, err := os.ReadFile("/etc/resolv.conf")
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after), "this machine's own are as they were")
	now, err := os.ReadFile("/proc/self/mountinfo")
	require.NoError(t, err)
	assert.Equal(t, string(mounts), string(now))
	name, err := os.Hostname()
	require.NoError(t, err)
	assert.Equal(t, host, name)
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "resolvers-*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	require.NoError(t, err)
	defer null.Close()
	files := [3]*os.File{null, null, null}
	for _, c := range []struct {
		machine string
		args    []string
		want    string
	}{
		{"nobody", []string{"true"}, `no machine "nobody"`}, {"heron", nil, "no program was named"}, {"heron", []string{"no-such-program"}, "no such file"},
	} {
		_, err := l.Start(c.machine, supervisor.Program{Args: c.args, Files: files})
		assert.ErrorContains(t, err, c.want)
	}
	p, err := l.Start("heron", supervisor.Program{Args: []string{"sleep", "60"}, Files: files})
	require.NoError(t, err)
	ended := make(chan int)
	go func() { ended <- p.Wait() }()
	l.Down()
	select {
	case status := <-ended:
		assert.Equal(t, 128+int(syscall.SIGKILL), status)
	case <-time.After(5 * time.Second):
		t.Error("the program outlives the lab")
	}
	_, err = l.Start("heron", supervisor.Program{Args: []string{"true"}, Files: files})
	assert.ErrorContains(t, err, "ending")
}

// What options ask for must be in the plan.
func TestOptions(t *testing.T) {
	p := planOf(t, "saltmarsh.yaml")
	for _, c := range []struct {
		o    Options
		want string
	}{
		{Options{Commands: map[string]string{"weir": "true"}}, `no appliance "weir"`},
		{Options{Commands: map[string]string{"heron": "true"}}, `no appliance "heron"`},
		{Options{Servers: []string{"sea"}}, `no segment "sea"`},
		{Options{Commands: map[string]string{"sluice": "true"}, Servers: []string{"reedbed"}}, ""},
	} {
		err := c.o.wanted(p)
		if c.want == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, c.want)
			_, err := Up(t.Context(), p, c.o)
			assert.ErrorContains(t, err, c.want, "and nothing is made")
		}
	}
}
