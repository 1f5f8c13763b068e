//go:build linux

package supervisor

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/verify/claims"
)

// pretend is a lab that does what a test wants.
type pretend struct {
	mu        sync.Mutex
	condition claims.Condition
	opened    int
	closed    int
	slow      chan struct{} // when not nil, Ask waits for it or for its context
	process   *pretendProcess
	got       string // what the program's standard input held
}

func (l *pretend) Open(context.Context, *plan.Plan) (claims.Facts, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.opened++
	return claims.Facts{
		Name:    "pretence",
		Witness: claims.Witness{Name: "buoy.example", Address: netip.MustParseAddr("203.0.113.80")},
	}, nil
}

func (l *pretend) Set(_ context.Context, c claims.Condition) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.condition = c
	return nil
}

func (l *pretend) Ask(ctx context.Context, list []claims.Question, tell func(claims.Answer)) error {
	for _, q := range list {
		tell(claims.Answer{ID: q.ID, Missing: "it is a pretence"})
	}
	if l.slow != nil {
		select {
		case <-l.slow:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

func (l *pretend) Close(context.Context) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed++
	return nil
}

// left returns the condition that it is in, and how often it was closed.
func (l *pretend) left() (claims.Condition, int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.condition, l.closed
}

func (l *pretend) Status() status.Lab { return status.Lab{Notes: []string{"all is well"}} }

func (l *pretend) Start(machine string, p Program) (Process, error) {
	if machine != "heron" {
		return nil, fmt.Errorf("no machine %q in the lab", machine)
	}
	line, _ := bufio.NewReader(p.Files[0]).ReadString('\n')
	l.mu.Lock()
	defer l.mu.Unlock()
	l.got = line
	_, _ = p.Files[1].WriteString("heard " + line)
	l.process = &pretendProcess{ended: make(chan int, 8), signals: make(chan syscall.Signal, 8)}
	if p.Args[0] == "true" {
		l.process.ended <- 5
	}
	return l.process, nil
}

type pretendProcess struct {
	ended   chan int
	signals chan syscall.Signal
}

func (p *pretendProcess) Wait() int { return <-p.ended }
func (p *pretendProcess) Signal(s syscall.Signal) {
	select {
	case p.signals <- s:
	default:
	}
	select {
	case p.ended <- 128 + int(s):
	default:
	}
}

// served serves a pretended lab in a folder as deep as folders go, and gives a client.
func served(t *testing.T, l *pretend) (Folder, func() *Client, *server) {
	deep := filepath.Join(t.TempDir(), strings.Repeat("deep/", 30))
	f := Of(deep, "saltmarsh")
	require.NoError(t, f.Make())
	in, err := f.listen()
	require.NoError(t, err)
	ended := make(chan struct{})
	var once sync.Once
	s := &server{
		plan:   &plan.Plan{Name: "saltmarsh"},
		ended:  ended,
		stop:   func(bool) { once.Do(func() { close(ended) }) },
		status: func() status.Lab { return Record{Lab: "saltmarsh", Phase: status.Running}.Fill(l.Status(), "") },
	}
	go s.serve(in)
	t.Cleanup(func() { in.Close() })
	return f, func() *Client {
		c, err := f.Dial()
		require.NoError(t, err)
		t.Cleanup(c.Hang)
		return c
	}, s
}

// A client asks a lab as if it were in its own process: status, claims, programs.
func TestTalk(t *testing.T) {
	l := &pretend{}
	_, dial, s := served(t, l)
	c := dial()
	_, err := c.Open(t.Context(), nil)
	assert.ErrorContains(t, err, "still starting")
	now, err := c.Status(t.Context())
	require.NoError(t, err, "a lab tells how it is from its first moment")
	assert.Equal(t, []string{"all is well"}, now.Notes)
	assert.NotNil(t, now.Machines)
	s.up(l)

	facts, err := c.Open(t.Context(), nil)
	require.NoError(t, err)
	assert.Equal(t, "pretence", facts.Name)
	assert.Equal(t, "203.0.113.80", facts.Witness.Address.String())
	_, err = dial().Open(t.Context(), nil)
	assert.ErrorContains(t, err, "another command checks this lab")
	require.NoError(t, c.Set(t.Context(), claims.Unplugged))
	condition, _ := l.left()
	assert.Equal(t, claims.Unplugged, condition)
	var got []string
	questions := []claims.Question{
		{ID: "a", When: claims.Running, Ask: claims.AskLease{}},
		{ID: "b", When: claims.Running, Ask: claims.AskHop{}},
	}
	require.NoError(t, c.Ask(t.Context(), questions, func(a claims.Answer) { got = append(got, a.ID+": "+a.Missing) }))
	assert.Equal(t, []string{"a: it is a pretence", "b: it is a pretence"}, got)
	require.NoError(t, c.Close(t.Context()))
	condition, closed := l.left()
	assert.Equal(t, claims.Running, condition, "who leaves leaves the lab as it was")
	assert.Equal(t, 1, closed)
	assert.Error(t, c.Set(t.Context(), claims.Running), "not before it is opened")
	_, err = dial().Open(t.Context(), nil)
	assert.NoError(t, err, "another machine may now")
}

// Whoever goes in the midst of asking leaves the lab as it was, for others.
func TestGoneInTheMidst(t *testing.T) {
	l := &pretend{slow: make(chan struct{})}
	_, dial, s := served(t, l)
	s.up(l)
	c := dial()
	_, err := c.Open(t.Context(), nil)
	require.NoError(t, err)
	require.NoError(t, c.Set(t.Context(), claims.Unplugged))
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	err = c.Ask(ctx, []claims.Question{{ID: "a", When: claims.Unplugged, Ask: claims.AskHop{}}}, func(claims.Answer) {})
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Eventually(t, func() bool {
		condition, closed := l.left()
		return condition == claims.Running && closed == 1
	}, 2*time.Second, 5*time.Millisecond)
	_, err = dial().Open(t.Context(), nil)
	assert.NoError(t, err)
}

// A program gets the caller's own files, its exit status comes back, signals reach it,
// and when the caller goes it is told as by a terminal that closes.
func TestPrograms(t *testing.T) {
	l := &pretend{}
	_, dial, s := served(t, l)
	s.up(l)
	files := func() ([3]*os.File, *os.File, *os.File) {
		inOut, inIn, err := os.Pipe()
		require.NoError(t, err)
		outOut, outIn, err := os.Pipe()
		require.NoError(t, err)
		_, err = inIn.WriteString("words\n")
		require.NoError(t, err)
		t.Cleanup(func() {
			for _, f := range []*os.File{inOut, inIn, outOut, outIn} {
				f.Close()
			}
		})
		return [3]*os.File{inOut, outIn, outIn}, inIn, outOut
	}
	given, _, out := files()
	exit, err := dial().Shell(t.Context(), "heron", Program{Args: []string{"true"}, Files: given})
	require.NoError(t, err)
	assert.Equal(t, 5, exit)
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "heard words\n", line)

	given, _, _ = files()
	_, err = dial().Shell(t.Context(), "nobody", Program{Args: []string{"true"}, Files: given})
	assert.ErrorContains(t, err, `no machine "nobody"`)

	given, _, _ = files()
	c := dial()
	done := make(chan int)
	go func() {
		exit, _ := c.Shell(context.Background(), "heron", Program{Args: []string{"sleep"}, Files: given})
		done <- exit
	}()
	assert.Eventually(
		t,
		func() bool { l.mu.Lock(); defer l.mu.Unlock(); return l.process != nil && len(l.process.ended) == 0 },
		time.Second,
		time.Millisecond,
	)
	time.Sleep(20 * time.Millisecond)
	c.Signal(syscall.SIGINT)
	assert.Equal(t, 130, <-done)

	given, _, _ = files()
	c = dial()
	l.mu.Lock()
	l.process = nil
	l.mu.Unlock()
	go func() { _, _ = c.Shell(context.Background(), "heron", Program{Args: []string{"sleep"}, Files: given}) }()
	assert.Eventually(
		t,
		func() bool { l.mu.Lock(); defer l.mu.Unlock(); return l.process != nil },
		time.Second,
		time.Millisecond,
	)
	time.Sleep(20 * time.Millisecond)
	c.Hang()
	select {
	case s := <-l.process.signals:
		assert.Equal(t, syscall.SIGHUP, s)
	case <-time.After(2 * time.Second):
		t.Error("the program was not told that nobody is there any more")
	}
}

// What is no request ends the talk, and the lab goes on.
func TestNonsense(t *testing.T) {
	l := &pretend{}
	f, dial, s := served(t, l)
	s.up(l)
	for _, text := range []string{"", "\n", "{}\n", "nonsense\n", `{"do":"dance"}` + "\n", `{"do":"shell"}` + "\n", `{"do":"ask","questions":[{"kind":"x"}]}` + "\n",
		`{"do":"set"}` + "\n", strings.Repeat("x", 1<<16), `{"do":"shell","program":{"args":["true"]}}` + "\n", `{"do":"signal","signal":9}` + "\n"} {
		c := dial()
		_, err := c.conn.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, c.conn.CloseWrite())
		_ = c.conn.SetReadDeadline(time.Now().Add(2 * time.Second))
		for {
			var r reply
			if c.in.Decode(&r) != nil {
				break
			}
			assert.NotEmpty(t, r.Error, "%q", text)
		}
	}
	_, err := dial().Status(t.Context())
	assert.NoError(t, err)
	info, err := os.Stat(filepath.Join(f.Path(), "control"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
	info, err = os.Stat(f.Path())
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o700), info.Mode().Perm())
}

// A record is whole or not there; a lab is locked by one; whose process is gone is known.
func TestRecords(t *testing.T) {
	home := t.TempDir()
	t.Setenv("XDG_STATE_HOME", home)
	at, err := Home()
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(home, "openbastion", "labs"), at)
	names, err := All(at)
	require.NoError(t, err)
	assert.Empty(t, names)
	f := Of(at, "saltmarsh")
	_, err = f.Read()
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, f.Make())
	r := Record{
		Lab:     "saltmarsh",
		File:    "/somewhere/lab.yaml",
		Phase:   status.Running,
		Process: os.Getpid(),
		Born:    Born(os.Getpid()),
	}
	require.NoError(t, f.Write(r))
	got, err := f.Read()
	require.NoError(t, err)
	assert.Equal(t, r.File, got.File)
	assert.Equal(t, RecordSchema, got.Schema)
	assert.True(t, got.Alive())
	got.Born++ // another process has the number now
	assert.False(t, got.Alive())
	assert.False(t, Record{Process: 1 << 30, Born: 1}.Alive())
	assert.False(t, Record{}.Alive())

	unlock, ok, err := f.Lock()
	require.NoError(t, err)
	require.True(t, ok)
	_, ok, err = f.Lock()
	require.NoError(t, err)
	assert.False(t, ok)
	unlock()
	unlock, ok, err = f.Lock()
	require.NoError(t, err)
	assert.True(t, ok)
	unlock()

	known, err := Known(at)
	require.NoError(t, err)
	assert.Contains(t, known, "saltmarsh")
	require.NoError(t, os.WriteFile(filepath.Join(f.Path(), "record.json"), []byte("{"), 0o600))
	_, err = f.Read()
	var syntax *json.SyntaxError
	assert.True(t, errors.As(err, &syntax), "%v", err)
	require.NoError(t, os.WriteFile(f.Log(), []byte("panic: so it was\n\ngoroutine 1\n"), 0o600))
	assert.Equal(t, "panic: so it was", f.LastWords())
	require.NoError(t, f.Remove())
	assert.Empty(t, f.LastWords())
	t.Setenv("XDG_STATE_HOME", "relative")
	at, err = Home()
	require.NoError(t, err)
	assert.True(t, filepath.IsAbs(at), "a relative state folder is none (XDG base directories)")
}

// Ending a lab whose process is gone takes its record away, and says so.
func TestEndOfWhatIsGone(t *testing.T) {
	f := Of(t.TempDir(), "saltmarsh")
	_, err := End(t.Context(), f, false)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, f.Make())
	require.NoError(t, f.Write(Record{Lab: "saltmarsh", Process: 1 << 30, Born: 7}))
	said, err := End(t.Context(), f, false)
	require.NoError(t, err)
	assert.Contains(t, said, "had ended unexpectedly")
	assert.NoDirExists(t, f.Path())
}
