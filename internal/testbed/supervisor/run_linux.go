package supervisor

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"openbastion/internal/atomicfile"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/hostnet"
)

// ReportFile is the descriptor by which a supervising process says that the lab is up,
// or why not.
const ReportFile = 3

// Report is what it says.
type Report struct {
	Progress string `json:"progress,omitempty"` // how far it is; the report itself is still to come

	Up     bool     `json:"up"`
	Error  string   `json:"error,omitempty"`
	Notes  []string `json:"notes,omitempty"`
	Lacks  bool     `json:"lacks,omitempty"` // this machine lacks something
	Exists bool     `json:"exists,omitempty"`
}

// Made is a lab that was built.
type Made interface {
	Lab
	Down()
	Remarks() []string    // what runs otherwise than the stage's name says, and why
	Failed() <-chan error // says when it no longer runs as it should
}

// Applier is a lab that can be changed to another plan while it runs. An error without a lab: nothing has
// changed; with one, not everything could be changed.
type Applier interface {
	Apply(ctx context.Context, p *plan.Plan) (Made, error)
}

// Reload reads the lab's file again: its text, its plan, and what the record says of it.
type Reload func() (text []byte, p *plan.Plan, err error)

// Build builds a lab. It calls changing before each change of the machine itself.
type Build func(ctx context.Context, changing func(hostnet.Change) error) (Made, error)

// Keep is a supervising process: it builds a lab and keeps it until it is told to stop.
// It is called in a process of its own, which Spawn makes. tell reports once.
func Keep(f Folder, r Record, text []byte, p *plan.Plan, build Build, reload Reload, tell func(Report)) error {
	if err := f.Make(); err != nil {
		tell(Report{Error: err.Error()})
		return err
	}
	unlock, ok, err := f.Lock()
	if err != nil || !ok {
		tell(Report{Exists: err == nil, Error: fmt.Sprint(errors.Join(err, errors.New("another machine runs it")))})
		return err
	}
	defer unlock()
	k := &keeper{folder: f, record: r, ended: make(chan struct{}), reload: reload}
	k.record.Process, k.record.Born = process()
	k.record.Started, k.record.Place = time.Now(), here()
	if os.Getpid() == 1 {
		if err := apart(); err != nil {
			tell(Report{Error: err.Error(), Lacks: true})
			return err
		}
	}
	signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE)
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	err = k.keep(ctx, stop, text, p, build, tell)
	_ = f.Remove()
	if err != nil { // only now: whoever hears it finds nothing left
		tell(Report{Error: err.Error(), Lacks: lacks(err)})
	}
	close(k.ended)
	time.Sleep(lastWords)
	return err
}

// lacks reports whether it is an error that says what this machine, or its user, lacks.
func lacks(err error) bool {
	var said interface{ Lacks() bool }
	return errors.As(err, &said) && said.Lacks() || errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EOPNOTSUPP)
}

// lastWords is how long a process stays to tell those who wait that the lab is down.
const lastWords = 20 * time.Millisecond

type keeper struct {
	folder Folder
	ended  chan struct{}
	reload Reload

	mu      sync.Mutex
	record  Record
	lab     Made
	failure string
}

// changing writes a change of this machine down before it is made.
func (k *keeper) changing(c hostnet.Change) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.record.Changes = append(k.record.Changes, c)
	return k.folder.Write(k.record)
}

// enter writes a phase down before it begins.
func (k *keeper) enter(p status.Phase) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.record.Phase = p
	return k.folder.Write(k.record)
}

func (k *keeper) keep(
	ctx context.Context,
	stop func(),
	text []byte,
	p *plan.Plan,
	build Build,
	tell func(Report),
) error {
	if err := k.enter(status.Starting); err != nil {
		return err
	}
	if err := os.WriteFile(k.folder.Text(), text, 0o600); err != nil {
		return err
	}
	l, err := k.folder.listen()
	if err != nil {
		return err
	}
	defer l.Close()
	gentle := make(chan struct{}, 1)
	s := &server{plan: p, status: k.status, ended: k.ended, apply: k.apply, stop: func(now bool) {
		if !now {
			gentle <- struct{}{}
		}
		stop()
	}}
	go s.serve(l)
	go reap(k)
	lab, err := build(ctx, k.changing)
	if err != nil {
		return err
	}
	k.mu.Lock()
	k.lab = lab
	k.mu.Unlock()
	defer func() {
		_ = k.enter(status.Stopping)
		k.mu.Lock()
		lab := k.lab
		k.mu.Unlock()
		select {
		case <-gentle:
			if systems, ok := lab.(interface{ Shut(context.Context) }); ok {
				systems.Shut(context.Background())
			}
		default:
		}
		lab.Down()
	}()
	if ctx.Err() != nil {
		return errors.New("it was stopped while it started")
	}
	if err := k.enter(status.Running); err != nil {
		return err
	}
	s.up(lab)
	tell(Report{Up: true, Notes: lab.Remarks()})
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-lab.Failed():
			k.mu.Lock()
			k.failure = err.Error()
			k.mu.Unlock()
		}
	}
}

// apply changes the lab to what its file says now, where that is what was expected. What it comes to is
// written down when it is done: a process that ends on the way takes the lab with it.
func (k *keeper) apply(ctx context.Context, expect string) (*plan.Plan, Lab, error) {
	k.mu.Lock()
	lab := k.lab
	k.mu.Unlock()
	able, ok := lab.(Applier)
	if !ok {
		return nil, nil, errors.New("this lab cannot be changed while it runs: stop it and start it again")
	}
	text, p, err := k.reload()
	switch {
	case err != nil:
		return nil, nil, err
	case p.Fingerprint() != expect:
		return nil, nil, errors.New("its file has changed again meanwhile: look at the difference once more")
	}
	made, err := able.Apply(ctx, p)
	if made == nil {
		return nil, nil, err
	}
	k.mu.Lock()
	k.lab = made
	k.record.Digest = p.Fingerprint()
	e := errors.Join(atomicfile.Write(k.folder.Text(), text, atomicfile.Options{Replace: true}), k.folder.Write(k.record))
	k.mu.Unlock()
	return p, made, errors.Join(err, e)
}

// status returns the lab's own status with what the record knows.
func (k *keeper) status() status.Lab {
	k.mu.Lock()
	lab, r, failure := k.lab, k.record, k.failure
	k.mu.Unlock()
	var out status.Lab
	if lab != nil && r.Phase == status.Running {
		out = lab.Status()
		out.Notes = append(out.Notes, lab.Remarks()...)
	}
	return r.Fill(out, failure)
}

// apart has the process see, and mount, for itself alone: its mounts are its own, and
// where processes are shown are its own.
func apart() error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("a view of files of its own: %w", err)
	}
	if err := unix.Mount("proc", "/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""); err != nil {
		return fmt.Errorf("a view of processes of its own: %w", err)
	}
	return nil
}

// process returns this process as the whole machine knows it, and when it began.
func process() (pid int, born uint64) {
	self, err := os.Readlink("/proc/self")
	if err != nil {
		return os.Getpid(), 0
	}
	pid, _ = strconv.Atoi(self)
	return pid, Born(pid)
}

// Born tells when a process began, in the kernel's ticks since its start: 0 for one that
// is not there. With the number it names one process for good (proc(5)).
func Born(pid int) uint64 {
	data, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "stat"))
	if err != nil {
		return 0
	}
	_, rest, ok := strings.Cut(string(data), ") ")
	fields := strings.Fields(rest)
	const startTime = 19 // the 22nd of all; the name before may hold spaces
	if !ok || len(fields) <= startTime || fields[0] == "Z" {
		return 0
	}
	born, _ := strconv.ParseUint(fields[startTime], 10, 64)
	return born
}

// reap takes in the end of processes whose parents in the lab ended before them: as the
// first process of its namespace this one inherits them. Its own are waited for at once
// by who started them; whoever is still there a moment later has nobody.
func reap(k *keeper) {
	if os.Getpid() != 1 {
		return
	}
	before := 0
	for {
		select {
		case <-k.ended:
			return
		case <-time.After(time.Second):
		}
		for {
			pid := dead()
			if pid == 0 || pid != before {
				before = pid
				break
			}
			_, _ = unix.Wait4(pid, nil, unix.WNOHANG, nil)
		}
	}
}

// dead returns a child that has ended and was not waited for, 0 when there is none.
func dead() int {
	var info unix.Siginfo
	if err := unix.Waitid(unix.P_ALL, 0, &info, unix.WEXITED|unix.WNOHANG|unix.WNOWAIT, nil); err != nil {
		return 0
	}
	// The number comes after three numbers of four bytes, at the next place for a pointer.
	const word = unsafe.Sizeof(uintptr(0))
	at := (3*unsafe.Sizeof(int32(0)) + word - 1) / word * word
	return int(*(*int32)(unsafe.Add(unsafe.Pointer(&info), at)))
}

// Fill puts into a status what the record knows, and gives all lists a beginning.
func (r Record) Fill(s status.Lab, failure string) status.Lab {
	s.Plan = r.Digest
	s.Schema, s.Lab, s.File, s.Stage, s.Phase, s.Since, s.Process, s.Failure = status.Schema, r.Lab, r.File, r.Stage, r.Phase, r.Started,
		r.Process, failure
	s.Machines = append([]status.Machine{}, s.Machines...)
	s.Segments = append([]status.Segment{}, s.Segments...)
	s.Leases = append([]status.Lease{}, s.Leases...)
	s.Rules = append([]status.Rule{}, s.Rules...)
	s.Flows = append([]status.Flow{}, s.Flows...)
	s.Log = append([]status.Logged{}, s.Log...)
	s.Escapes = append([]status.Escape{}, s.Escapes...)
	s.Notes = append([]string{}, s.Notes...)
	return s
}

// TellBy returns what reports on a file: how far it is, and then once how it went.
func TellBy(f *os.File) func(Report) {
	var mu sync.Mutex
	told := false
	return func(r Report) {
		mu.Lock()
		defer mu.Unlock()
		if told {
			return
		}
		_ = json.NewEncoder(f).Encode(r)
		if told = r.Progress == ""; told {
			f.Close()
		}
	}
}
