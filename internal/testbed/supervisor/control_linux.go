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
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// Program is a program of this machine that is to run inside a machine of a lab.
type Program struct {
	Args     []string    `json:"args"`
	Env      []string    `json:"env"`
	Dir      string      `json:"dir"`
	Terminal bool        `json:"terminal"` // its standard input, output and error are one
	Files    [3]*os.File `json:"-"`
}

// Process is a program that was started in a machine.
type Process interface {
	Wait() int // its exit status
	Signal(syscall.Signal)
}

// Lab is a lab that runs.
type Lab interface {
	claims.Stage
	Status() status.Lab // what the record knows is left out
	Start(machine string, p Program) (Process, error)
}

// hangUp is how long a program may take to end when nobody is there any more.
const hangUp = 2 * time.Second

// request is a line that a client sends.
type request struct {
	Do        string            `json:"do"` // status, open, set, ask, close, shell, signal, operate, apply, drift, repair, undo, strike, heal, judged, stop
	Condition claims.Condition  `json:"condition,omitempty"`
	Questions []claims.Question `json:"questions,omitempty"`
	Machine   string            `json:"machine,omitempty"`
	Program   *Program          `json:"program,omitempty"`
	Signal    syscall.Signal    `json:"signal,omitempty"`
	Operation *Operation        `json:"operation,omitempty"`
	Now       bool              `json:"now,omitempty"`    // stop: without asking systems to power down
	Quiet     bool              `json:"quiet,omitempty"`  // open: machines are left as they are
	Expect    string            `json:"expect,omitempty"` // apply: the fingerprint of the plan that was shown
	Fault     string            `json:"fault,omitempty"`  // strike, heal: as it was asked for
	Checks    []status.Check    `json:"checks,omitempty"` // judged: the verdict
	Partly    bool              `json:"partly,omitempty"` // judged: only what disturbs no guest was asked
}

// reply is a line that comes back: parts of an answer, and a last one that is done.
type reply struct {
	Answer *claims.Answer `json:"answer,omitempty"`
	Facts  *claims.Facts  `json:"facts,omitempty"`
	Status *status.Lab    `json:"status,omitempty"`
	Drift  []status.Drift `json:"drift,omitempty"`
	Exit   *int           `json:"exit,omitempty"`
	Text   string         `json:"text,omitempty"`
	Error  string         `json:"error,omitempty"`
	Done   bool           `json:"done,omitempty"`
}

// maxRequest bounds a line of a client: the questions of a lab of thousands of guests.
const maxRequest = 64 << 20

// socket returns the address of the lab's socket, short however deep the folder is: by
// the descriptor of the open folder.
func (f Folder) socket() (address string, folder *os.File, err error) {
	folder, err = os.Open(f.path)
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d/control", folder.Fd()), folder, nil
}

// listen opens the lab's socket, for its owner only.
func (f Folder) listen() (*net.UnixListener, error) {
	_ = os.Remove(filepath.Join(f.path, "control"))
	address, folder, err := f.socket()
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: address, Net: "unix"})
	if err != nil {
		return nil, err
	}
	l.SetUnlinkOnClose(false) // the descriptor in its name is closed by then; the folder goes whole
	return l, os.Chmod(filepath.Join(f.path, "control"), 0o600)
}

// server answers those who ask about a lab.
type server struct {
	plan   *plan.Plan
	status func() status.Lab // with what the record knows
	stop   func(now bool)    // has the process end; it returns at once
	apply  func(ctx context.Context, expect string) (*plan.Plan, Lab, error)
	ended  <-chan struct{} // when the lab is down

	mu     sync.Mutex
	lab    Lab // nil while it starts
	checks status.Checks

	claims sync.Mutex // one at a time has the lab's conditions
}

func (s *server) up(l Lab) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lab = l
}

func (s *server) running() (Lab, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lab == nil {
		return nil, errors.New("the lab is still starting")
	}
	return s.lab, nil
}

func (s *server) serve(l *net.UnixListener) {
	for {
		c, err := l.AcceptUnix()
		if err != nil {
			return
		}
		go s.client(c)
	}
}

// client talks to one client until it goes.
func (s *server) client(c *net.UnixConn) {
	defer c.Close()
	if !ours(c) {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	t := &talk{server: s, conn: c, out: json.NewEncoder(c)}
	defer t.leave()
	lines := make(chan request)
	go func() { // reads on while something is done, so that a client that goes ends it
		defer cancel()
		defer close(lines)
		in := bufio.NewScanner(&taking{t})
		in.Buffer(nil, maxRequest)
		for in.Scan() {
			var q request
			if json.Unmarshal(in.Bytes(), &q) != nil {
				return
			}
			if q.Do == "signal" {
				t.signal(q.Signal)
				continue
			}
			select {
			case lines <- q:
			case <-ctx.Done():
				return
			}
		}
	}()
	for q := range lines {
		r := reply{Done: true}
		if err := t.do(ctx, q, &r); err != nil {
			r.Error = err.Error()
		}
		if t.say(r) != nil {
			return
		}
	}
}

// ours reports whether it is a client of the same user, or of the superuser.
func ours(c *net.UnixConn) bool {
	raw, err := c.SyscallConn()
	if err != nil {
		return false
	}
	var who *unix.Ucred
	e := raw.Control(func(fd uintptr) { who, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) })
	if e != nil || err != nil {
		return false
	}
	return who.Uid == 0 || int(who.Uid) == os.Getuid()
}

// talk is what goes on with one client.
type talk struct {
	server *server
	conn   *net.UnixConn

	mu      sync.Mutex
	out     *json.Encoder
	files   []*os.File // that came and belong to the next program
	process Process
	opened  Lab                         // whose claims it asks
	healing func(context.Context) error // of the fault that lasts; nil: none does
}

func (t *talk) say(r reply) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.out.Encode(r)
}

// taking reads a client's lines and keeps the files that come with them.
type taking struct{ t *talk }

func (r *taking) Read(b []byte) (int, error) {
	control := make([]byte, 128)
	n, c, _, _, err := r.t.conn.ReadMsgUnix(b, control)
	if messages, e := unix.ParseSocketControlMessage(control[:c]); e == nil {
		for _, m := range messages {
			fds, e := unix.ParseUnixRights(&m)
			if e != nil {
				continue
			}
			r.t.mu.Lock()
			for _, fd := range fds {
				unix.CloseOnExec(fd)
				r.t.files = append(r.t.files, os.NewFile(uintptr(fd), "a client's file"))
			}
			r.t.mu.Unlock()
		}
	}
	if n == 0 && err == nil {
		err = io.EOF
	}
	return n, err
}

// do does what a client asks.
func (t *talk) do(ctx context.Context, q request, r *reply) error {
	s := t.server
	switch q.Do {
	case "status":
		now := s.status()
		s.mu.Lock()
		now.Checked = s.checks.Known()
		s.mu.Unlock()
		r.Status = &now
		return nil
	case "judged":
		s.mu.Lock()
		defer s.mu.Unlock()
		s.checks.Take(time.Now(), q.Checks, q.Partly)
		return nil
	case "stop":
		s.stop(q.Now)
		<-s.ended
		return nil
	}
	lab, err := s.running()
	if err != nil {
		return err
	}
	switch q.Do {
	case "open":
		return t.open(ctx, lab, q.Quiet, r)
	case "close":
		t.leave()
		return nil
	case "shell":
		return t.shell(ctx, lab, q, r)
	case "operate":
		return t.operate(ctx, lab, q, r)
	case "apply":
		return t.apply(q.Expect)
	case "drift", "repair", "undo":
		return t.repair(lab, q.Do, r)
	}
	if t.opened == nil {
		return fmt.Errorf("%q is not known, or not before open", q.Do)
	}
	switch q.Do {
	case "set":
		return lab.Set(ctx, q.Condition)
	case "strike":
		return t.strike(ctx, lab, q.Fault)
	case "heal":
		return t.heal(ctx)
	case "ask":
		return lab.Ask(ctx, q.Questions, func(a claims.Answer) { _ = t.say(reply{Answer: &a}) })
	}
	return fmt.Errorf("%q is not known", q.Do)
}

func (t *talk) open(ctx context.Context, lab Lab, quiet bool, r *reply) error {
	if !t.server.claims.TryLock() {
		return errors.New("another command checks this lab just now")
	}
	open := lab.Open
	if q, is := lab.(interface {
		OpenQuietly(context.Context, *plan.Plan) (claims.Facts, error)
	}); is && quiet {
		open = q.OpenQuietly
	}
	t.server.mu.Lock()
	p := t.server.plan
	t.server.mu.Unlock()
	facts, err := open(ctx, p)
	if err != nil {
		t.server.claims.Unlock()
		return err
	}
	t.opened, r.Facts = lab, &facts
	return nil
}

// apply changes the lab to what its file says now. It goes on to its end, also when the client goes.
func (t *talk) apply(expect string) error {
	s := t.server
	if !s.claims.TryLock() {
		return errors.New("it is checked just now: try again when that is done")
	}
	defer s.claims.Unlock()
	p, lab, err := s.apply(context.Background(), expect)
	if lab != nil {
		s.mu.Lock()
		s.plan, s.lab = p, lab
		s.checks.Forget()
		s.mu.Unlock()
	}
	return err
}

// Faulty is a lab to which a fault can happen, and end.
type Faulty interface {
	Strike(ctx context.Context, f simulator.Fault, begins bool) error
}

// strike begins a fault, which ends when it is healed or the talk ends.
func (t *talk) strike(ctx context.Context, lab Lab, text string) error {
	able, ok := lab.(Faulty)
	if !ok {
		return errors.New("no fault can be made in this lab: it does not run on the kernel")
	}
	if t.healing != nil {
		return errors.New("a fault lasts already")
	}
	t.server.mu.Lock()
	p := t.server.plan
	t.server.mu.Unlock()
	f, err := simulator.ParseFault(p, text)
	if err != nil {
		return err
	}
	t.healing = func(ctx context.Context) error { return able.Strike(ctx, f, false) }
	return able.Strike(ctx, f, true)
}

// heal ends the fault that lasts; there may be none.
func (t *talk) heal(ctx context.Context) error {
	end := t.healing
	if t.healing = nil; end == nil {
		return nil
	}
	return end(ctx)
}

// Repairer is a lab that knows where its machines differ from the plan, and can set that right.
type Repairer interface {
	Drift() []status.Drift
	Repair() (done []status.Drift, err error)
	UndoRepair() (undone []status.Drift, err error)
}

// repair tells what differs from the plan, sets it right, or puts it back.
func (t *talk) repair(lab Lab, what string, r *reply) (err error) {
	able, ok := lab.(Repairer)
	if !ok {
		return errors.New("the machines of this lab are not looked into: it does not run on the kernel")
	}
	if what == "drift" {
		r.Drift = able.Drift()
		return nil
	}
	if !t.server.claims.TryLock() {
		return errors.New("it is checked just now: try again when that is done")
	}
	defer t.server.claims.Unlock()
	if what == "repair" {
		r.Drift, err = able.Repair()
	} else {
		r.Drift, err = able.UndoRepair()
	}
	return err
}

// leave ends what a client has begun: it may have gone in the midst of it.
func (t *talk) leave() {
	_ = t.heal(context.Background())
	if t.opened != nil {
		_ = t.opened.Set(context.Background(), claims.Running)
		_ = t.opened.Close(context.Background())
		t.opened = nil
		t.server.claims.Unlock()
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, f := range t.files {
		f.Close()
	}
	t.files = nil
}

func (t *talk) signal(which syscall.Signal) {
	t.mu.Lock()
	p := t.process
	t.mu.Unlock()
	if p != nil && which > 0 {
		p.Signal(which)
	}
}

// handed returns the files that came, and what closes them.
func (t *talk) handed() (files []*os.File, shut func()) {
	t.mu.Lock()
	defer t.mu.Unlock()
	files, t.files = t.files, nil
	return files, func() {
		for _, f := range files {
			f.Close()
		}
	}
}

// operate has something done with a machine.
func (t *talk) operate(ctx context.Context, lab Lab, q request, r *reply) (err error) {
	files, shut := t.handed()
	defer shut()
	o, ok := lab.(Operator)
	if !ok || q.Operation == nil {
		return errors.New("this lab has no virtual machines")
	}
	q.Operation.Files = files
	r.Text, err = o.Operate(ctx, *q.Operation)
	return err
}

// shell runs a program in a machine and waits for its end.
func (t *talk) shell(ctx context.Context, lab Lab, q request, r *reply) error {
	if q.Program == nil {
		return errors.New("no program was named")
	}
	files, shut := t.handed()
	defer shut()
	if len(files) != len(q.Program.Files) {
		return errors.New("standard input, output and error did not come")
	}
	copy(q.Program.Files[:], files)
	p, err := lab.Start(q.Machine, *q.Program)
	if err != nil {
		return err
	}
	t.mu.Lock()
	t.process = p
	t.mu.Unlock()
	gone := context.AfterFunc(ctx, func() { // as when a terminal is closed; what does not heed that is ended
		p.Signal(syscall.SIGHUP)
		time.Sleep(hangUp)
		p.Signal(syscall.SIGKILL)
	})
	defer gone()
	exit := p.Wait()
	t.mu.Lock()
	t.process = nil
	t.mu.Unlock()
	r.Exit = &exit
	return nil
}
