package machine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/machine/agent"
	"openbastion/internal/testbed/machine/qmp"
	"openbastion/internal/testbed/machine/screen"
	"openbastion/internal/testbed/supervisor"
)

// vm is a machine of the plan that runs under QEMU.
type vm struct {
	plan      *plan.Machine
	reference bool
	command   *exec.Cmd
	control   *qmp.Conn
	console   *console
	agent     *agent.Client // of a reference machine
	said      *supervisor.Tail
	ended     chan struct{} // closed when QEMU has ended
	began     time.Time

	looking sync.Mutex  // one at a time looks at its screen
	font    screen.Font // of its firmware, once it was read

	mu     sync.Mutex
	off    bool // it was powered down, by itself or because it was told to
	offAt  time.Time
	failed error
}

// starter starts processes from a thread of its own that never ends: they end with it, and
// so with this process, however that ends (PR_SET_PDEATHSIG).
type starter chan func()

func newStarter() starter {
	s := make(starter)
	go func() {
		runtime.LockOSThread() // and never unlocked
		for f := range s {
			f()
		}
	}()
	return s
}

func (s starter) start(c *exec.Cmd) (err error) {
	done := make(chan struct{})
	s <- func() { defer close(done); err = c.Start() }
	<-done
	return err
}

// firstDescriptor is the number of the first file that a process inherits beside its
// standard three.
const firstDescriptor = 3

// pair returns both ends of a stream socket; the far one is for a child to inherit.
func pair(name string) (near int, far *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return -1, nil, fmt.Errorf("a socket for %s: %w", name, err)
	}
	return fds[0], os.NewFile(uintptr(fds[1]), name), nil
}

// connection makes a descriptor a connection.
func connection(fd int, name string) (net.Conn, error) {
	f := os.NewFile(uintptr(fd), name)
	defer f.Close()
	return net.FileConn(f)
}

// boot starts a machine. When it fails nothing of it is left.
func (l *Lab) boot(ctx context.Context, m *plan.Machine, s Setup) (x *vm, err error) {
	x = &vm{
		plan:      m,
		reference: s.Kernel != "",
		said:      supervisor.NewTail(maxSaid),
		ended:     make(chan struct{}),
		began:     time.Now(),
	}
	var files []*os.File
	defer func() {
		for _, f := range files {
			f.Close()
		}
		if err != nil && x.command != nil && x.command.Process != nil {
			x.kill()
		}
	}()
	socket := func(name string) (near, number int, err error) {
		near, far, err := pair(name)
		if err == nil {
			files = append(files, far)
		}
		return near, firstDescriptor + len(files) - 1, err
	}
	var control, serial, inner int
	if control, s.Control, err = socket("control"); err != nil {
		return nil, err
	}
	if serial, s.Console, err = socket("console"); err != nil {
		return nil, err
	}
	if x.reference {
		if inner, s.Agent, err = socket("agent"); err != nil {
			return nil, err
		}
	}
	for _, a := range m.Own() {
		s.Adapters = append(s.Adapters, firstDescriptor+len(files))
		files = append(files, l.socketOf(a))
	}
	args, err := s.Args()
	if err != nil {
		return nil, err
	}
	if err := x.start(l, args, files); err != nil {
		return nil, err
	}
	if err := x.connect(ctx, l, control, serial, inner); err != nil {
		return nil, err
	}
	return x, nil
}

// socketOf hands out the end of an adapter's cable that its machine inherits.
func (l *Lab) socketOf(a *plan.Adapter) *os.File {
	l.mu.Lock()
	defer l.mu.Unlock()
	f := l.sockets[a]
	delete(l.sockets, a)
	return f
}

func (x *vm) start(l *Lab, args []string, files []*os.File) error {
	x.command = exec.Command(l.options.Program, args...)
	x.command.ExtraFiles, x.command.Stderr, x.command.Stdout = files, x.said, x.said
	x.command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setsid: true}
	if os.Geteuid() == 0 && userNamespaces() {
		powerless(x.command.SysProcAttr)
	}
	if err := l.starter.start(x.command); err != nil {
		return fmt.Errorf("%s: %w", x.plan.Name, err)
	}
	go func() {
		_ = x.command.Wait() // what it says is kept
		x.mu.Lock()
		if !x.off {
			x.failed = fmt.Errorf("%s: QEMU has ended: %s", x.plan.Name, lastOf(x.said))
		}
		x.mu.Unlock()
		close(x.ended)
	}()
	return nil
}

// nobody is the user that a machine's QEMU takes itself for when root has started it.
const nobody = 65534

// powerless has a program that root starts run without any capability: in a user namespace of its own,
// where root's files stay what they are and everything else of root's is gone.
func powerless(p *syscall.SysProcAttr) {
	p.Cloneflags |= syscall.CLONE_NEWUSER
	p.UidMappings = []syscall.SysProcIDMap{{ContainerID: nobody, HostID: 0, Size: 1}}
	p.GidMappings = []syscall.SysProcIDMap{{ContainerID: nobody, HostID: 0, Size: 1}}
}

// userNamespaces reports whether the kernel makes user namespaces.
func userNamespaces() bool {
	most, err := os.ReadFile("/proc/sys/user/max_user_namespaces")
	return err == nil && strings.TrimSpace(string(most)) != "0"
}

// connect takes up what was prepared for a machine that has been started.
func (x *vm) connect(ctx context.Context, l *Lab, control, serial, inner int) error {
	line, err := connection(serial, "console")
	if err != nil {
		return err
	}
	x.console = newConsole(line)
	if x.reference {
		channel, err := connection(inner, "agent")
		if err != nil {
			return err
		}
		x.agent = agent.Dial(channel)
	}
	stream, err := connection(control, "control")
	if err != nil {
		return err
	}
	patient, cancel := context.WithTimeout(ctx, startTime)
	defer cancel()
	if x.control, err = qmp.Open(patient, stream, x.happened); err != nil {
		x.kill()
		return fmt.Errorf("%s: QEMU did not start: %s", x.plan.Name, lastOf(x.said))
	}
	if x.reference {
		go x.tell(l)
	}
	return nil
}

// startTime is how long QEMU may take until it answers.
const startTime = 30 * time.Second

// tell returns a reference machine what to become, whenever it asks for that.
func (x *vm) tell(l *Lab) {
	for {
		select {
		case <-x.agent.Hello():
			_ = x.onReset(l.ctx, "shutdown") // from here on its end is one
			if err := x.agent.Become(l.ctx, l.role(x.plan)); err != nil && l.ctx.Err() == nil {
				x.mu.Lock()
				x.failed = fmt.Errorf("%s: %w", x.plan.Name, err)
				x.mu.Unlock()
			}
		case <-x.agent.Gone():
			return
		case <-l.ctx.Done():
			return
		}
	}
}

// happened takes in what QEMU says by itself.
func (x *vm) happened(e qmp.Event) {
	if e.Name != "SHUTDOWN" {
		return
	}
	var why struct {
		Reason string `json:"reason"`
	}
	_ = json.Unmarshal(e.Data, &why) // without a reason it is as if somebody had pressed the button
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.reference && why.Reason == "guest-reset" {
		x.failed = fmt.Errorf("%s: its first process has ended: %s", x.plan.Name, x.console.last())
		return
	}
	x.off, x.offAt = true, time.Now()
}

// on notes that the machine runs again.
func (x *vm) on() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.off, x.failed = false, nil
}

// running is the word for a machine that runs.
const running = "machine"

// state says in a word how the machine is, and why where that is not well.
func (x *vm) state() (word, why string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	switch {
	case x.failed != nil:
		return "failed", x.failed.Error()
	case x.off:
		return "off", ""
	}
	return running, ""
}

// offSince returns when it was powered down.
func (x *vm) offSince() time.Time {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.offAt
}

// answers reports whether it is a reference machine that runs.
func (x *vm) answers() bool {
	word, _ := x.state()
	return x.reference && word == running
}

// onReset returns what a reset of the machine is to be: a reset, or its end (shutdown).
func (x *vm) onReset(ctx context.Context, what string) error {
	return x.control.Do(ctx, "set-action", map[string]string{"reboot": what}, nil)
}

// resume lets a machine go on; after a reset, once that is done.
func (x *vm) resume(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), resumeTime)
	defer cancel()
	var why error // the last that was not for want of time
	for {
		err := x.control.Do(ctx, "cont", nil, nil)
		switch {
		case err == nil:
			return nil
		case ctx.Err() != nil:
			return cmp.Or(why, err)
		}
		why = err
		pause(ctx, 10*time.Millisecond)
	}
}

// reset puts a machine that has ended back to where it was before it was started. A reset
// of a reference machine is its end, but now: its firmware, too, resets once more.
func (x *vm) reset(ctx context.Context) error {
	if err := x.onReset(ctx, "reset"); err != nil {
		return err
	}
	if err := x.control.Do(ctx, "system_reset", nil, nil); err != nil {
		return err
	}
	for began := time.Now(); time.Since(began) < resumeTime; pause(ctx, 10*time.Millisecond) {
		var now struct {
			Status string `json:"status"`
		}
		if err := x.control.Do(ctx, "query-status", nil, &now); err != nil {
			return err
		}
		if now.Status == "prelaunch" || now.Status == "paused" || now.Status == "running" {
			break
		}
	}
	return nil
}

// resumeTime is how long a machine may take to go on.
const resumeTime = 3 * time.Second

// wait waits until a machine is ready: a reference machine when it has come by its leases,
// any other as soon as it runs.
func (x *vm) wait(ctx context.Context, most time.Duration) error {
	if !x.reference {
		return nil
	}
	select {
	case <-x.agent.Ready():
		return nil
	case <-x.ended:
		_, why := x.state()
		return errors.New(why)
	case <-time.After(most):
		if _, why := x.state(); why != "" {
			return errors.New(why)
		}
		return fmt.Errorf(
			"%s was not ready after %s; its console's last lines: %s",
			x.plan.Name,
			most,
			x.console.last(),
		)
	case <-ctx.Done():
		return ctx.Err()
	}
}

// power asks the system to power down, and waits for that; false when it did not.
func (x *vm) power(ctx context.Context) bool {
	if x.control.Do(ctx, "system_powerdown", nil, nil) != nil {
		return false
	}
	for ctx.Err() == nil {
		if word, _ := x.state(); word != running {
			return true
		}
		select {
		case <-x.ended:
			return true
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
		}
	}
	return false
}

// kill ends the machine at once, and waits until it has.
func (x *vm) kill() {
	x.mu.Lock()
	x.off, x.offAt = true, time.Now()
	x.mu.Unlock()
	_ = x.command.Process.Kill()
	<-x.ended
	if x.control != nil {
		x.control.Close()
	}
	if x.agent != nil {
		x.agent.Hang()
	}
	if x.console != nil {
		x.console.close()
	}
}

// maxSaid bounds what is kept of what QEMU, or a console, says, in bytes.
const maxSaid = 8 << 10

// lastOf returns the last line of what was said.
func lastOf(t *supervisor.Tail) string {
	return cmp.Or(strings.TrimSpace(t.Last(1)), "it printed nothing")
}

// console is a machine's serial line: its end is kept for whoever looks later.
type console struct {
	line net.Conn

	mu   sync.Mutex
	kept *supervisor.Tail
	to   map[io.Writer]bool
}

func newConsole(line net.Conn) *console {
	c := &console{line: line, kept: supervisor.NewTail(maxSaid), to: map[io.Writer]bool{}}
	go func() {
		b := make([]byte, 4<<10)
		for {
			n, err := line.Read(b)
			if err != nil {
				return
			}
			c.mu.Lock()
			_, _ = c.kept.Write(b[:n])
			for w := range c.to {
				if _, err := w.Write(b[:n]); err != nil {
					delete(c.to, w)
				}
			}
			c.mu.Unlock()
		}
	}()
	return c
}

// join has a writer see what the machine says, what it said last first; it gives what ends
// that.
func (c *console) join(w io.Writer) (leave func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, _ = w.Write(c.kept.Bytes())
	c.to[w] = true
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.to, w)
	}
}

func (c *console) last() string { return lastOf(c.kept) }

func (c *console) close() { c.line.Close() }
