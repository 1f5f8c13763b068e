package supervisor

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/hostnet"
	"openbastion/internal/verify/claims"
)

// How says what a supervising process is apart from.
type How int

// The ways.
const (
	Apart  How = iota // the first of a process and of a mount namespace of its own
	AsUser            // and of a user and a network namespace
	Plain             // a process like others, that needs no right
)

// Spawn starts the program itself as a supervising process with arguments, and waits for
// its report, telling how far it is. Its errors go to the folder's log.
func Spawn(ctx context.Context, f Folder, args []string, how How, progress func(string)) (Report, error) {
	return spawn(ctx, f, args, how, progress, nil)
}

// SpawnTied is Spawn for a process that ends its lab when this one ends, however that happens.
// That one calls [UntilTieEnds].
func SpawnTied(ctx context.Context, f Folder, args []string, how How, progress func(string)) (Report, error) {
	in, out, err := os.Pipe()
	if err != nil {
		return Report{}, err
	}
	defer in.Close()
	r, err := spawn(ctx, f, args, how, progress, in)
	tie.Store(out) // held open as long as this process lives
	return r, err
}

// tie keeps the end of what a supervising process waits for that is tied to this one.
var tie atomic.Pointer[os.File]

// TieFile is the descriptor by which a supervising process learns that who started it has ended.
const TieFile = 4

// UntilTieEnds waits until who started this process has ended.
func UntilTieEnds() {
	_, _ = io.Copy(io.Discard, os.NewFile(TieFile, "tie"))
}

func spawn(
	ctx context.Context,
	f Folder,
	args []string,
	how How,
	progress func(string),
	tied *os.File,
) (Report, error) {
	if err := f.Make(); err != nil {
		return Report{}, err
	}
	log, err := os.OpenFile(f.Log(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return Report{}, err
	}
	defer log.Close()
	in, out, err := os.Pipe()
	if err != nil {
		return Report{}, err
	}
	defer in.Close()
	c := exec.Command("/proc/self/exe", args...)
	c.Args[0] = "bastion"
	c.Stderr, c.ExtraFiles = log, []*os.File{out}
	if tied != nil {
		c.ExtraFiles = append(c.ExtraFiles, tied)
	}
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if how != Plain {
		c.SysProcAttr.Cloneflags = unix.CLONE_NEWPID | unix.CLONE_NEWNS
	}
	if how == AsUser {
		c.SysProcAttr.Cloneflags |= unix.CLONE_NEWUSER | unix.CLONE_NEWNET
		c.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		c.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	err = c.Start()
	out.Close()
	if err != nil {
		return Report{Lacks: true}, fmt.Errorf("start the supervising process: %w", err)
	}
	go func() { _ = c.Wait() }()
	stop := context.AfterFunc(ctx, func() { _ = c.Process.Signal(syscall.SIGTERM) })
	defer stop()
	var r Report
	for lines := json.NewDecoder(in); ; {
		r = Report{}
		if err := lines.Decode(&r); err != nil {
			return Report{}, fmt.Errorf("the supervising process ended without a word; see %s", f.Log())
		}
		if r.Progress == "" {
			break
		}
		if progress != nil {
			progress(r.Progress)
		}
	}
	if err := ctx.Err(); err != nil {
		_, _ = io.Copy(io.Discard, in)
		return r, err
	}
	return r, nil
}

// Alive reports whether the process of a record still runs. One that another machine, or another view of processes, has
// started is alive as long as it holds the lab's lock.
func (r Record) Alive() bool {
	if r.Elsewhere() {
		return r.folder.Held()
	}
	return r.Process > 0 && Born(r.Process) == r.Born && r.Born != 0
}

// Elsewhere reports whether the number of a record's process means nothing here.
func (r Record) Elsewhere() bool {
	here := here()
	return r.Place.Boot != "" && (r.Place.Boot != here.Boot || r.Place.Space != here.Space)
}

// here returns where this process runs.
func here() (p Place) {
	p.Host, _ = os.Hostname()
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	p.Boot = strings.TrimSpace(string(boot))
	var proc unix.Stat_t
	if unix.Stat("/proc", &proc) == nil {
		p.Space = strconv.FormatUint(proc.Dev, 10)
	}
	p.Job = os.Getenv("SLURM_JOB_ID")
	if array := os.Getenv("SLURM_ARRAY_JOB_ID"); array != "" {
		p.Job = array + "_" + os.Getenv("SLURM_ARRAY_TASK_ID")
	}
	return p
}

// Client talks to a lab's supervising process.
type Client struct {
	conn *net.UnixConn
	in   *json.Decoder
}

// Dial reaches the process.
func (f Folder) Dial() (*Client, error) {
	address, folder, err := f.socket()
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	c, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: address, Net: "unix"})
	if err != nil {
		return nil, err
	}
	return &Client{conn: c, in: json.NewDecoder(bufio.NewReader(c))}, nil
}

// Hang ends the talk.
func (c *Client) Hang() { c.conn.Close() }

// call sends a request and hands on what comes, until it is done. A context that ends
// ends the talk.
func (c *Client) call(ctx context.Context, q request, part func(reply)) (reply, error) {
	stop := context.AfterFunc(ctx, func() { c.conn.Close() })
	defer stop()
	if err := json.NewEncoder(c.conn).Encode(q); err != nil {
		return reply{}, errors.Join(ctx.Err(), err)
	}
	for {
		var r reply
		if err := c.in.Decode(&r); err != nil {
			if ctx.Err() != nil {
				return r, ctx.Err()
			}
			return r, fmt.Errorf("the lab's process is gone: %w", err)
		}
		switch {
		case r.Done && r.Error != "":
			return r, errors.New(r.Error)
		case r.Done:
			return r, nil
		case part != nil:
			part(r)
		}
	}
}

// Status asks how the lab is.
func (c *Client) Status(ctx context.Context) (status.Lab, error) {
	r, err := c.call(ctx, request{Do: "status"}, nil)
	if err != nil || r.Status == nil {
		return status.Lab{}, err
	}
	return *r.Status, nil
}

// Stop has the lab end, and waits until it has. Its systems are asked to power down first,
// but when it is to be now.
func (c *Client) Stop(ctx context.Context, now bool) error {
	_, err := c.call(ctx, request{Do: "stop", Now: now}, nil)
	return err
}

// Open makes the client a stage of claims: of the lab that runs.
func (c *Client) Open(ctx context.Context, _ *plan.Plan) (claims.Facts, error) {
	return c.open(ctx, false)
}

// OpenQuietly makes it one that leaves the lab's machines as they are.
func (c *Client) OpenQuietly(ctx context.Context, _ *plan.Plan) (claims.Facts, error) {
	return c.open(ctx, true)
}

func (c *Client) open(ctx context.Context, quiet bool) (claims.Facts, error) {
	r, err := c.call(ctx, request{Do: "open", Quiet: quiet}, nil)
	if err != nil || r.Facts == nil {
		return claims.Facts{}, err
	}
	return *r.Facts, nil
}

// Set puts the lab into a condition.
func (c *Client) Set(ctx context.Context, when claims.Condition) error {
	_, err := c.call(ctx, request{Do: "set", Condition: when}, nil)
	return err
}

// Ask puts questions to it.
func (c *Client) Ask(ctx context.Context, questions []claims.Question, tell func(claims.Answer)) error {
	_, err := c.call(ctx, request{Do: "ask", Questions: questions}, func(r reply) {
		if r.Answer != nil {
			tell(*r.Answer)
		}
	})
	return err
}

// Busy returns that this machine has more to do than it can at once, by its load of the last minute, or by how late it wakes.
func (c *Client) Busy() string {
	const nap = 20 * time.Millisecond
	began := time.Now()
	time.Sleep(nap)
	late := time.Since(began) - nap
	load := 0.0
	if data, err := os.ReadFile("/proc/loadavg"); err == nil {
		_, _ = fmt.Sscan(string(data), &load)
	}
	if n := runtime.NumCPU(); load > 1.5*float64(n) || late > nap {
		return fmt.Sprintf("this machine is overloaded (load %.0f on %d processors)", load, n)
	}
	return ""
}

// Pause returns after a while.
func (c *Client) Pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// Close ends what Open began.
func (c *Client) Close(ctx context.Context) error {
	_, err := c.call(ctx, request{Do: "close"}, nil)
	return err
}

// hand hands files over. They come before the line that uses them: with its first byte, a
// space.
func (c *Client) hand(files []*os.File) error {
	var fds []int
	for _, f := range files {
		fds = append(fds, int(f.Fd()))
	}
	_, _, err := c.conn.WriteMsgUnix([]byte(" "), unix.UnixRights(fds...), nil)
	return err
}

// Operate has something done with a machine and gives what is said of it.
func (c *Client) Operate(ctx context.Context, o Operation) (string, error) {
	if len(o.Files) > 0 {
		if err := c.hand(o.Files); err != nil {
			return "", err
		}
	}
	r, err := c.call(ctx, request{Do: "operate", Operation: &o}, nil)
	return r.Text, err
}

// Apply has the lab changed to what its file says now, where the plan of that has a fingerprint.
func (c *Client) Apply(ctx context.Context, fingerprint string) error {
	_, err := c.call(ctx, request{Do: "apply", Expect: fingerprint}, nil)
	return err
}

// Judged keeps a verdict on the lab, for its status. partly: only what disturbs no guest was asked.
func (c *Client) Judged(ctx context.Context, checks []status.Check, partly bool) error {
	_, err := c.call(ctx, request{Do: "judged", Checks: checks, Partly: partly}, nil)
	return err
}

// Strike has a fault happen to the lab, until Heal or until the talk ends. The client is an open stage.
func (c *Client) Strike(ctx context.Context, fault string) error {
	_, err := c.call(ctx, request{Do: "strike", Fault: fault}, nil)
	return err
}

// Heal ends it.
func (c *Client) Heal(ctx context.Context) error {
	_, err := c.call(ctx, request{Do: "heal"}, nil)
	return err
}

// Drift returns what differs from the plan in the lab's machines.
func (c *Client) Drift(ctx context.Context) ([]status.Drift, error) { return c.repair(ctx, "drift") }

// Repair sets right what Drift tells, and returns what it has set right.
func (c *Client) Repair(ctx context.Context) ([]status.Drift, error) { return c.repair(ctx, "repair") }

// UndoRepair puts back what the last Repair found, and returns what it has put back.
func (c *Client) UndoRepair(ctx context.Context) ([]status.Drift, error) {
	return c.repair(ctx, "undo")
}

func (c *Client) repair(ctx context.Context, what string) ([]status.Drift, error) {
	r, err := c.call(ctx, request{Do: what}, nil)
	return r.Drift, err
}

// Shell runs a program in a machine, with the given files, and gives its exit status.
func (c *Client) Shell(ctx context.Context, machine string, p Program) (int, error) {
	if err := c.hand(p.Files[:]); err != nil {
		return 0, err
	}
	r, err := c.call(ctx, request{Do: "shell", Machine: machine, Program: &p}, nil)
	if err != nil || r.Exit == nil {
		return 0, err
	}
	return *r.Exit, nil
}

// Signal sends a signal to the program that Shell runs.
func (c *Client) Signal(s syscall.Signal) {
	_ = json.NewEncoder(c.conn).Encode(request{Do: "signal", Signal: s})
}

// End ends a lab, whatever has become of it: by asking its process; when that does not
// answer, by ending it; now: without asking its systems to power down. Its folder is gone
// then. said tells what had to be done beside
// the asking, empty when nothing had.
func End(ctx context.Context, f Folder, now bool) (said string, err error) {
	r, err := f.Read()
	if err != nil {
		return "", err
	}
	if r.Alive() && r.Elsewhere() {
		return "", fmt.Errorf("it runs on %s: stop it there", r.Place)
	}
	if !r.Alive() {
		if err := hostnet.Undo(r.Changes); err != nil {
			return "", err
		}
		said = "its process had ended unexpectedly; only the lab's record was left"
		if len(r.Changes) > 0 {
			said = fmt.Sprintf(
				"its process had ended unexpectedly; its changes to this machine were undone (%v)",
				r.Changes,
			)
		}
		return said, f.Remove()
	}
	asked, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if c, err := f.Dial(); err == nil {
		defer c.Hang()
		_ = c.Stop(asked, now)
	} else {
		_ = syscall.Kill(r.Process, syscall.SIGTERM)
	}
	for began := time.Now(); r.Alive(); time.Sleep(2 * time.Millisecond) {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if time.Since(began) > patience && said == "" {
			said = "its process did not answer, and was ended"
			_ = syscall.Kill(r.Process, syscall.SIGKILL)
		}
	}
	if said != "" { // it could not take its changes back
		if err := hostnet.Undo(r.Changes); err != nil {
			return said, err
		}
	}
	if err := f.Remove(); err != nil {
		return said, err
	}
	return said, nil
}

// patience is how long a process may take to end its lab.
const patience = 20 * time.Second

// Known returns what is known of the labs that were started and not stopped, by their
// folders.
func Known(home string) (map[string]Record, error) {
	names, err := All(home)
	out := map[string]Record{}
	for _, name := range names {
		if r, err := Of(home, name).Read(); err == nil {
			out[name] = r
		}
	}
	return out, err
}
