//go:build linux

package cli

import (
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/testbed/supervisor"
)

// traces is what a lab could leave on a machine.
type traces struct {
	Links, Mounts, Rules, Routes, Processes, Spaces, Files []string
}

// traced looks at this machine: what belongs to nobody but this test's own labs.
func traced(t *testing.T, state string) (out traces) {
	links, err := net.Interfaces()
	require.NoError(t, err)
	for _, l := range links {
		out.Links = append(out.Links, l.Name)
	}
	read := func(path string) []string {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		return strings.Split(string(data), "\n")
	}
	out.Mounts, out.Routes = read("/proc/self/mountinfo"), read("/proc/net/route")
	out.Mounts = slices.DeleteFunc(
		out.Mounts,
		func(line string) bool { // named spaces of tests that run beside this one
			return strings.Contains(line, " /run/netns")
		},
	)
	rules, _ := exec.Command("nft", "list", "ruleset").Output()
	out.Rules = strings.Split(string(rules), "\n")
	own, err := os.Readlink("/proc/self/ns/net")
	require.NoError(t, err)
	all, err := filepath.Glob("/proc/[0-9]*")
	require.NoError(t, err)
	for _, p := range all {
		cmd, _ := os.ReadFile(p + "/environ")
		if !strings.Contains(string(cmd), "XDG_STATE_HOME="+state) {
			continue
		}
		if stat, _ := os.ReadFile(p + "/stat"); !strings.Contains(string(stat), ") Z ") {
			out.Processes = append(out.Processes, p)
		}
		if ns, err := os.Readlink(p + "/ns/net"); err == nil && ns != own {
			out.Spaces = append(out.Spaces, ns)
		}
	}
	_ = filepath.WalkDir(state, func(path string, _ os.DirEntry, err error) error {
		if err == nil && strings.Count(strings.TrimPrefix(path, state), "/") > 2 {
			out.Files = append(out.Files, path)
		}
		return nil
	})
	return out
}

// bench is a folder with the sample lab, and what was on this machine before.
type bench struct {
	t          *testing.T
	dir, state string
	folder     supervisor.Folder
	before     traces
}

func newBench(t *testing.T) bench {
	dir := t.TempDir()
	lab, err := os.ReadFile("../../examples/saltmarsh.yaml")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(dir+"/lab.yaml", lab, 0o600))
	state := dir + "/state"
	return bench{t, dir, state, supervisor.Of(state+"/openbastion/labs", "saltmarsh"), traced(t, state)}
}

// bastion returns a call of the program there.
func (b bench) bastion(args ...string) *exec.Cmd {
	self, err := os.Executable()
	require.NoError(b.t, err)
	c := exec.Command(self, args...)
	c.Args[0], c.Dir = "bastion", b.dir
	c.Env = append(os.Environ(), "XDG_STATE_HOME="+b.state, "XDG_DATA_HOME="+b.dir+"/data")
	return c
}

// clean waits until nothing of a lab is left, and fails the test when something is.
func (b bench) clean(within time.Duration, format string, args ...any) bool {
	same := func() bool { return assert.ObjectsAreEqual(b.before, traced(b.t, b.state)) }
	assert.Eventually(b.t, same, within, 50*time.Millisecond, append([]any{format}, args...)...)
	if b.t.Failed() {
		b.t.Logf("left: %+v", traced(b.t, b.state))
	}
	return !b.t.Failed()
}

// killsOr returns how many kills are wanted (KILLS).
func killsOr(otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv("KILLS")); err == nil {
		return n
	}
	return otherwise
}

// A lab's process is killed at random moments (KILLS of them) of its start, while it is
// checked, while a program runs in a guest, and while it is stopped: what is left is a
// record, and after a stop not even that; a fresh start works.
func TestKilledAtAnyMoment(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	kills := killsOr(4)
	b := newBench(t)
	random := rand.New(rand.NewPCG(uint64(kills), 7))
	for i := range kills {
		within := 250 * time.Millisecond // a start, or a stop
		steps := [][]string{{"start"}}
		switch i % 4 {
		case 1:
			steps, within = append(steps, []string{"verify"}), 3*time.Second
		case 2:
			steps = append(steps, []string{"shell", "heron", "--", "sh", "-c", "sleep 60 & sleep 60"})
		case 3:
			steps, within = append(steps, []string{"stop"}), 60*time.Millisecond
		}
		for _, s := range steps[:len(steps)-1] {
			require.NoError(t, b.bastion(s...).Run())
		}
		c := b.bastion(steps[len(steps)-1]...)
		require.NoError(t, c.Start())
		after := time.Duration(random.Int64N(int64(within)))
		time.Sleep(after)
		// The process is known by its record, or, before there is one, as the child of
		// the command: killed with it then.
		if r, err := b.folder.Read(); err == nil && r.Alive() {
			require.NoError(t, syscall.Kill(r.Process, syscall.SIGKILL))
		}
		_ = c.Wait()
		out, err := b.bastion("stop", "--all").CombinedOutput()
		require.NoError(t, err, "%s", out)
		if !b.clean(5*time.Second, "%v, killed after %v: %s", steps, after, out) {
			return
		}
	}
	out, err := b.bastion("start", "--then", "verify").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, b.bastion("stop").Run())
}

// A lab of virtual machines whose process, or one of whose machines, or whose start is
// killed at a random moment (KILLS of them) leaves nothing once it was stopped.
func TestMachinesKilledAtAnyMoment(t *testing.T) {
	if insideProgram() == "" {
		t.Skip("needs QEMU and the package of a kernel")
	}
	kills := killsOr(2)
	b := newBench(t)
	random := rand.New(rand.NewPCG(uint64(kills), 8))
	for i := range kills {
		c := b.bastion(
			"start",
			"--on",
			"machines",
			"--kernel",
			kernelPackage(),
			"--inside",
			insideProgram(),
			"--only",
			"sluice",
			"--only",
			"heron",
		)
		require.NoError(t, c.Start())
		after := time.Duration(random.Int64N(int64(8 * time.Second)))
		time.Sleep(after)
		r, err := b.folder.Read()
		switch children := childrenOf(r.Process); {
		case i%3 == 0 && err == nil && r.Alive():
			require.NoError(t, syscall.Kill(r.Process, syscall.SIGKILL))
		case i%3 == 1 && len(children) > 0:
			_ = syscall.Kill(children[len(children)-1], syscall.SIGKILL)
		default:
			_ = c.Process.Kill()
		}
		_ = c.Wait()
		out, err := b.bastion("stop", "--all", "--now").CombinedOutput()
		require.NoError(t, err, "%s", out)
		if !b.clean(15*time.Second, "killed after %v: %s", after, out) {
			return
		}
	}
}

// childrenOf returns the processes that a process has started and that run.
func childrenOf(process int) (list []int) {
	data, _ := os.ReadFile(filepath.Join("/proc", strconv.Itoa(process), "task", strconv.Itoa(process), "children"))
	tasks, _ := filepath.Glob(filepath.Join("/proc", strconv.Itoa(process), "task", "*", "children"))
	for _, name := range tasks {
		more, _ := os.ReadFile(name)
		data = append(data, more...)
	}
	for _, word := range strings.Fields(string(data)) {
		if n, err := strconv.Atoi(word); err == nil {
			list = append(list, n)
		}
	}
	return list
}
