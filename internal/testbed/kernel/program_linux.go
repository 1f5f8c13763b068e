package kernel

import (
	"bytes"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"openbastion/internal/testbed/supervisor"
)

// Running is a program that was started in a machine.
type Running struct {
	set *programs
	in  *lasting // of the machine
	cmd *exec.Cmd
}

// programs are those that run in a lab's machines.
type programs struct {
	mu sync.Mutex
	of map[*Running]bool
}

// Start starts a program in a machine. It ends with this process, at the latest. Wait
// must be called.
func (l *Lab) Start(name string, p supervisor.Program) (supervisor.Process, error) {
	x, err := l.byName(name)
	if err != nil {
		return nil, err
	}
	if len(p.Args) == 0 {
		return nil, errors.New("no program was named")
	}
	in, err := x.inside(l.options.Folder)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	l.stacks.shadows.Do(l.ctx, func(time.Duration) { x.tellResolvers() })
	c := &exec.Cmd{Path: lookUp(p.Args[0], p.Env, p.Dir), Args: p.Args, Env: p.Env, Dir: p.Dir,
		Stdin: p.Files[0], Stdout: p.Files[1], Stderr: p.Files[2]}
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: p.Terminal, Pdeathsig: syscall.SIGKILL}
	l.programs.mu.Lock()
	defer l.programs.mu.Unlock()
	if err := l.ctx.Err(); err != nil {
		return nil, errors.New("the lab is ending")
	}
	if err := in.do(c.Start); err != nil {
		return nil, err
	}
	r := &Running{l.programs, x.lasting, c}
	l.programs.of[r] = true
	return r, nil
}

// Wait waits for the program's end and gives its exit status; of one that a signal
// ended, 128 and the signal's number, as shells do.
func (r *Running) Wait() int {
	_ = r.cmd.Wait() // what it says is in the state
	r.set.mu.Lock()
	defer r.set.mu.Unlock()
	delete(r.set.of, r)
	if s, ok := r.cmd.ProcessState.Sys().(syscall.WaitStatus); ok && s.Signaled() {
		return 128 + int(s.Signal())
	}
	return r.cmd.ProcessState.ExitCode()
}

// Signal sends a signal to the program and all of its session's first group.
func (r *Running) Signal(s syscall.Signal) {
	r.set.mu.Lock()
	defer r.set.mu.Unlock()
	if r.set.of[r] {
		_ = syscall.Kill(-r.cmd.Process.Pid, s)
	}
}

// byName returns the machine of a name, when it runs on the kernel.
func (l *Lab) byName(name string) (*machine, error) {
	for _, m := range l.plan.Machines {
		x := l.stacks.machines[m]
		switch {
		case m.Name == name && x != nil:
			return x, nil
		case m.Name == name && m.Off:
			return nil, fmt.Errorf("%s is switched off in this lab", name)
		case m.Name == name:
			return nil, fmt.Errorf("%s does not run on this kernel: it is simulated", name)
		}
	}
	return nil, fmt.Errorf("no machine %q in the lab", name)
}

// lookUp finds a program on the PATH of an environment; what is not found is left
// as it is, for the start to fail on it.
func lookUp(name string, env []string, dir string) string {
	if strings.Contains(name, "/") {
		return name
	}
	path := os.Getenv("PATH")
	for _, e := range env {
		if v, ok := strings.CutPrefix(e, "PATH="); ok {
			path = v
		}
	}
	for folder := range strings.SplitSeq(path, ":") {
		if !strings.HasPrefix(folder, "/") {
			folder = dir + "/" + folder
		}
		if info, err := os.Stat(folder + "/" + name); err == nil && !info.IsDir() && info.Mode()&0o111 != 0 {
			return folder + "/" + name
		}
	}
	return name
}

// inner is a thread within a machine: its network, a host name and a view of files of
// its own, in which the resolvers are the machine's. Programs are started from it.
type inner struct {
	calls chan func()
	names *os.File // what programs read as the system's resolvers
}

// inside returns the machine's thread. folder is where a file can be made for a moment.
func (x *machine) inside(folder string) (*inner, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.inner != nil {
		return x.inner, nil
	}
	names, err := os.CreateTemp(folder, "resolvers-*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(names.Name())
	if err := names.Chmod(0o644); err != nil {
		return nil, err
	}
	in := &inner{calls: make(chan func()), names: names}
	ready := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: it ends with the goroutine
		err := x.enter(names.Name())
		ready <- err
		if err != nil {
			return
		}
		for f := range in.calls {
			f()
		}
	}()
	if err := <-ready; err != nil {
		names.Close()
		return nil, err
	}
	x.inner = in
	x.stops = append(x.stops, func() { close(in.calls); names.Close() })
	return in, nil
}

// enter takes the calling thread into the machine.
func (x *machine) enter(names string) error {
	if err := unix.Setns(x.space.fd, unix.CLONE_NEWNET); err != nil {
		return fmt.Errorf("enter its network: %w", err)
	}
	if err := unix.Unshare(unix.CLONE_NEWNS | unix.CLONE_NEWUTS); err != nil {
		return fmt.Errorf("a view of files of its own: %w", err)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("keep its mounts to itself: %w", err)
	}
	if err := unix.Mount(names, "/etc/resolv.conf", "", unix.MS_BIND, ""); err != nil && !errors.Is(err, unix.ENOENT) {
		return fmt.Errorf("put its DNS servers in place: %w", err)
	}
	// What shows this machine's devices and processes shows the lab's instead, where
	// the system allows that.
	if unix.Unmount("/sys", unix.MNT_DETACH) == nil {
		_ = unix.Mount("sysfs", "/sys", "sysfs", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "")
	}
	_ = unix.Mount("proc", "/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "")
	return unix.Sethostname([]byte(x.plan.Name))
}

// do calls a function on the thread.
func (in *inner) do(f func() error) (err error) {
	var done sync.WaitGroup
	done.Add(1)
	in.calls <- func() { defer done.Done(); err = f() }
	done.Wait()
	return err
}

// tellResolvers writes down what the machine's programs should ask for names. It is
// called from the shadows' loop.
func (x *machine) tellResolvers() {
	x.mu.Lock()
	in := x.inner
	x.mu.Unlock()
	if in == nil {
		return
	}
	var text bytes.Buffer
	fmt.Fprintf(&text, "# commands given to %s, in the lab\n", x.plan.Name)
	for _, r := range x.resolvers() {
		fmt.Fprintf(&text, "nameserver %s\n", r)
	}
	if err := in.names.Truncate(0); err == nil {
		_, _ = in.names.WriteAt(text.Bytes(), 0)
	}
}

// resolvers returns what the machine's programs should ask for names: an appliance its
// own resolver, which asks on. It is called from the shadows' loop.
func (x *machine) resolvers() (list []netip.Addr) {
	if x.plan.Appliance != nil {
		return []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	}
	for _, a := range x.plan.Adapters {
		told := slices.Clone(x.now(a).DNS)
		if six := x.ports[a].IPv6; six != nil {
			told = append(told, six.DNS...)
		}
		for _, d := range told {
			if !slices.Contains(list, d) {
				list = append(list, d)
			}
		}
	}
	return list
}

// end ends what still runs in machines.
func (s *programs) end(in func(*lasting) bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for r := range s.of {
		if in(r.in) {
			_ = syscall.Kill(-r.cmd.Process.Pid, syscall.SIGKILL)
		}
	}
}
