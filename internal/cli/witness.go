package cli

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/sanitize"
	"openbastion/internal/testbed/field"
)

// witnessOptions are how a witness is.
type witnessOptions struct {
	token, at, udp, tcp, record string
	rate                        float64
	showToken                   bool
}

func (a *app) witness() *cobra.Command {
	var o witnessOptions
	c := &cobra.Command{
		Use: "witness [LAB]", Short: "Run the test server outside",
		Long: `Answers the probes of a lab's guests, from outside the lab: on the host, or on a
machine in the WAN segment or beyond. It tells each which source address and hop limit
it saw, and signs that. Who does not have the lab's token gets no answer; no answer is
longer than its question. LAB is the lab file or the lab's name: whoever knows that name
on this machine shares its token, which "plan --for" and "carry" put into what guests
get. Elsewhere say the token: --token. It goes on until you interrupt it.

Ports below 1024 take rights on most systems; with --udp and --tcp others are taken, but
guests whose rules let only known services out then do not get through.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			return a.bearWitness(args, o)
		},
	}
	c.Flags().BoolVar(&o.showToken, "show-token", false, "show the lab's token, a secret, for other machines")
	c.Flags().StringVar(&o.token, "token", "", "the lab's token (default: this machine's)")
	c.Flags().StringVar(&o.at, "at", "", "the address to listen on (default: all)")
	c.Flags().
		StringVar(&o.udp, "udp", field.FormatPorts(field.Usual.UDP), "UDP ports, plain or with DNS; with a lab file also those of its checks")
	c.Flags().StringVar(&o.tcp, "tcp", field.FormatPorts(field.Usual.TCP), "TCP ports, likewise")
	c.Flags().
		StringVar(&o.record, "record", "", "add each question that was answered to this file, a line of JSON for each")
	c.Flags().Float64Var(&o.rate, "rate", 500, "allowed requests per second and bench, on average")
	return c
}

// labName returns the lab that the user names by its file or its name, and its plan where it is a
// file.
func (a *app) labName(args []string) (string, *plan.Plan, error) {
	named := labArg(args)
	if _, err := os.Stat(named); err == nil || named == "-" {
		p, err := a.load(named)
		if err != nil {
			return "", nil, err
		}
		return p.Name, p, nil
	}
	if len(args) == 0 || lab.CheckName(named) != nil {
		_, err := a.load(named) // which says what is wrong
		return "", nil, err
	}
	kept, err := secretFile("token", named)
	if err != nil {
		return "", nil, err
	}
	if _, err := os.Stat(kept); err != nil {
		return "", nil, failure{
			exitUsage,
			"this machine keeps no token of a lab " + named,
			"name the lab file, or pass --token.",
		}
	}
	return named, nil, nil
}

func (a *app) bearWitness(args []string, o witnessOptions) error {
	var at netip.Addr
	var err error
	if o.at != "" {
		if at, err = netip.ParseAddr(o.at); err != nil {
			return usage("--at is an address, not %q", o.at)
		}
	}
	var ports field.Ports
	if ports.UDP, err = field.ParsePorts(o.udp); err != nil {
		return usage("--udp: %v", err)
	}
	if ports.TCP, err = field.ParsePorts(o.tcp); err != nil {
		return usage("--tcp: %v", err)
	}
	if o.rate <= 0 {
		return usage("--rate is more than nothing")
	}
	name, p := "a lab", (*plan.Plan)(nil)
	if o.token == "" || len(args) > 0 {
		if name, p, err = a.labName(args); err != nil {
			return err
		}
	}
	token, err := tokenOf(o.token, name)
	if err != nil {
		return err
	}
	key, err := witnessKey(name)
	if err != nil {
		return err
	}
	var secret [32]byte
	if _, err := rand.Read(secret[:]); err != nil {
		return err
	}
	r := &witnessRecord{a: a, known: map[string]bool{}}
	if o.record != "" {
		if r.file, err = os.OpenFile(o.record, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600); err != nil {
			return failure{exitUsage, fmt.Sprintf("cannot write to %s: %v", o.record, cause(err)), ""}
		}
		defer r.file.Close()
	}
	server := witness.NewServer(key, token, secret, o.rate)
	w, wanted, err := openWitness(at, ports, p, server, r.seen)
	if err != nil {
		hint := "Use other ports (--udp, --tcp), or stop the program that listens there."
		if errors.Is(err, fs.ErrPermission) {
			hint = "Ports below 1024 need root; or use others: --udp 7007 --tcp 8080."
		}
		return failure{
			exitLacking,
			"the test server cannot listen: " + strings.ReplaceAll(err.Error(), "\n", "; "),
			hint,
		}
	}
	w.Heard = r.heard
	deaf := w.Hear(a.ctx, at)
	if deaf == nil {
		r.note(evidence.RecordLine{At: time.Now().UTC(), Listening: true})
	}
	s := a.screen()
	if a.format == "text" && !a.quiet {
		s.line(s.paint(strong, "witness"), " of ", name, "  ", s.paint(faint, "until interrupted"))
		t := table{}
		t.add(
			"its code",
			cell{witness.Code(key.Public().(ed25519.PublicKey)), strong},
			cell{"probes show the same", faint},
		)
		t.add("listens at", o.atText(), cell{w.Ports.String(), faint})
		t.add("its key", cell{witness.KeyText(key.Public().(ed25519.PublicKey)), plain},
			cell{"for --witness-key on other machines", faint})
		if o.showToken {
			t.add(
				"the token",
				cell{token.String(), plain},
				cell{"a secret of this lab: for --token on other machines", faint},
			)
		} else {
			t.add("the token", cell{"kept here", plain}, cell{"--show-token prints it, for --token on other machines", faint})
		}
		s.below(t)
		if wanted != nil {
			s.para(
				2,
				4,
				plain,
				signNote+" not on all ports that the lab's checks use: "+strings.ReplaceAll(wanted.Error(), "\n", "; "),
			)
		}
		if deaf != nil {
			s.para(2, 4, plain, signNote+" forged packets are observed on its ports alone: "+why(deaf))
		}
		s.line()
	}
	w.Run(a.ctx)
	return a.ctx.Err()
}

// openWitness listens on ports and, where the lab is known, on those that its claims ask the
// witness on; wanted says why not on these.
func openWitness(
	at netip.Addr,
	ports field.Ports,
	p *plan.Plan,
	server *witness.Server,
	seen func(witness.Seen),
) (w *field.Witness,
	wanted, err error) {
	if p != nil {
		server.Opens = true
		if w, wanted = field.Listen(at, ports.With(p), server, seen); wanted == nil {
			return w, nil, nil
		}
		server.Opens = false
	}
	w, err = field.Listen(at, ports, server, seen)
	return w, wanted, err
}

// why says in a person's words what keeps the witness from hearing all.
func why(err error) string {
	if errors.Is(err, fs.ErrPermission) {
		return "recording all packets needs root"
	}
	return err.Error()
}

func (o witnessOptions) atText() string {
	if o.at == "" {
		return "all addresses of this machine"
	}
	return o.at
}

// witnessRecord notes what a witness has seen.
type witnessRecord struct {
	a    *app
	file *os.File

	mu    sync.Mutex
	known map[string]bool // whom a line was said of already
}

// recordLine is what is kept of a question.
type recordLine struct {
	At     time.Time      `json:"time"`
	Bench  string         `json:"bench"`
	Source netip.AddrPort `json:"source"`
	Hops   int            `json:"hops"`
	Way    string         `json:"way"`
}

// mostKnown bounds of how many sources a line is said.
const mostKnown = 10000

func (r *witnessRecord) seen(q witness.Seen) {
	line := recordLine{time.Unix(q.Time, 0).UTC(), q.Bench, q.Source, q.Hops, q.Way.String()}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.note(line); r.a.format == "json" {
		return
	}
	who := q.Bench + " " + q.Source.Addr().String() + " " + line.Way
	if r.a.quiet || r.known[who] || len(r.known) >= mostKnown {
		return
	}
	r.known[who] = true
	bench := q.Bench
	if bench == "" {
		bench = "a guest"
	}
	s := r.a.screen()
	s.line(
		"  ",
		line.At.Local().Format("15:04:05"),
		"  ",
		sanitize.Line(bench),
		" from ",
		s.paint(outside, q.Source.Addr().String()),
		" by ",
		line.Way,
		s.paint(faint, hopsText(q.Hops)),
	)
}

// heard notes a forged packet that came.
func (r *witnessRecord) heard(run uint32, attempt int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now().UTC()
	if r.note(evidence.RecordLine{At: now, Run: run, Attempt: attempt}); r.a.format == "json" {
		return
	}
	who := fmt.Sprintf("forged %08x", run)
	if r.a.quiet || r.known[who] || len(r.known) >= mostKnown {
		return
	}
	r.known[who] = true
	s := r.a.screen()
	s.line("  ", now.Local().Format("15:04:05"), "  ", s.paint(broken, "a forged packet got through"),
		s.paint(faint, ", the first of its run"))
}

// note adds a line to the record.
func (r *witnessRecord) note(line any) {
	data, err := json.Marshal(line)
	if err != nil {
		return
	}
	data = append(data, '\n')
	if r.file != nil {
		_, _ = r.file.Write(data) // one that cannot be written must not end the witness
	}
	if r.a.format == "json" {
		_, _ = r.a.out.Write(data)
	}
}

func hopsText(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", %d hops left", n)
}
