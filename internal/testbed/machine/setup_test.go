//go:build linux

package machine

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// gate returns an appliance with settings of its machine, and four adapters.
func gate(t *testing.T, settings string) *plan.Machine {
	text := `{bastion: 1, lab: x, segments: {up: {reach: upstream}, a: {reach: isolated}, b: {reach: isolated}, c: {reach: isolated}},
 appliances: {gate: {machine: {` + settings + `}, ports: [{role: wan, segment: up}, {role: lan, segment: a}, {role: dmz, segment: b}, {role: lan, name: third, segment: c}]}}}`
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err, settings)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p.Machine("gate")
}

// A machine has the planned processors, memory and adapters, and these are where whoever
// counts them by place finds them in the planned order; what starts it comes in its order.
func TestArgs(t *testing.T) {
	m := gate(t, "cpus: 3, memory: 2GiB, boot: [media, disk, network]")
	args, err := Setup{
		Machine:  m,
		Disk:     "/d/a,b.qcow2",
		Media:    "/m.iso",
		State:    "/s",
		Control:  3,
		Console:  4,
		Adapters: []int{5, 6, 7, 8},
	}.Args()
	require.NoError(t, err)
	all := strings.Join(args, " ")
	for _, want := range []string{"-smp 3", "-m 2048M", "-no-shutdown", "socket,id=control,fd=3", "socket,id=console,fd=4", "a,,b.qcow2",
		"ide-cd,id=drive0,bus=ide.1,bootindex=1,drive=media", "virtio-blk-pci,id=disk0,drive=disk,bootindex=2", "-vnc none,password=on"} {
		assert.Contains(t, all, want)
	}
	last := -1
	for i, a := range m.Own() {
		at := strings.Index(all, "mac="+a.MAC.String())
		assert.Greater(t, at, last, "in their order")
		last = at
		assert.Contains(t, all, fmt.Sprintf("addr.type=fd,addr.str=%d", 5+i))
		assert.Contains(t, all, fmt.Sprintf("addr=%#x", firstAdapter+i))
	}
	assert.Equal(t, 1, strings.Count(all, "bootindex=3"), "the first adapter only")
	assert.Equal(t, 3, strings.Count(all, "romfile="), "the others start nothing")

	reference, err := Setup{Machine: m, Kernel: "/k", Initial: "/i", Agent: 5, Adapters: []int{6, 7, 8, 9}}.Args()
	require.NoError(t, err)
	text := strings.Join(reference, " ")
	assert.Contains(t, text, "-no-reboot -kernel /k -initrd /i")
	assert.Contains(t, text, "name=openbastion.agent")
	assert.NotContains(t, text, "bootindex")
	assert.NotContains(t, text, "ide-cd")
}

// Every bus and adapter that is accepted is one that QEMU takes; all others are told.
func TestQEMUTakesAll(t *testing.T) {
	for _, c := range []struct {
		settings string
		firmware []string
		wrong    string
	}{
		{"disk-bus: virtio", nil, ""}, {"disk-bus: scsi", nil, ""}, {"disk-bus: sata", nil, ""}, {"disk-bus: ide", nil, ""}, {"disk-bus: nvme", nil, ""},
		{"disk-bus: floppy", nil, "floppy"}, {"nic: e1000", nil, ""}, {"nic: e1000e", nil, ""}, {"nic: virtio, cpus: 4", nil, ""},
		{"nic: 'x,y'", nil, "is not an adapter model"}, {"disk-bus: ide", []string{"/code", "/vars"}, "write sata"},
	} {
		m := gate(t, c.settings)
		dir := t.TempDir()
		s := Setup{
			Machine:  m,
			Disk:     dir + "/disk",
			State:    dir + "/state",
			Firmware: c.firmware,
			Adapters: []int{3, 4, 5, 6},
		}
		args, err := s.Args()
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong, c.settings)
			continue
		}
		require.NoError(t, err, c.settings)
		qemu, err := exec.LookPath("qemu-system-x86_64")
		if _, e := exec.LookPath("qemu-img"); err != nil || e != nil {
			continue
		}
		for _, name := range []string{s.Disk, s.State} {
			require.NoError(t, makeDisk(t.Context(), name, "", 1<<20))
		}
		for i, a := range args { // its sockets are not here: it is asked about everything else
			if strings.Contains(a, "socket,") {
				args[i] = strings.Split(a, "socket,")[0] + "null," + strings.Split(strings.Split(a, "socket,")[1], ",fd=")[0]
			}
			if strings.HasPrefix(a, "stream,") {
				args[i] = "user," + strings.Split(strings.TrimPrefix(a, "stream,"), ",")[0]
			}
		}
		c2 := exec.CommandContext(t.Context(), qemu, append(args, "-S", "-monitor", "stdio")...)
		c2.Stdin = strings.NewReader("quit\n")
		out, err := c2.CombinedOutput()
		assert.NoError(t, err, "%s: %s", c.settings, out)
	}
}
