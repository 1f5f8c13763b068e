package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/verdict"
)

func (a *app) trace() *cobra.Command {
	return &cobra.Command{
		Use: "trace [LAB] FROM TO PROTO/PORT", Short: "Follow one flow hop by hop",
		Long: `Runs the lab in memory and follows one flow: names, addresses asked for, routes,
which rule decides and where it is written, translation before and after, what
the other end saw, the way back; or where it died, why, and what would let it
pass. FROM and TO are guests, appliances or outside.`,
		Example: "  bastion trace saltmarsh.yaml heron outside tcp/443\n  bastion trace saltmarsh.yaml outside ferry tcp/8443\n  bastion trace saltmarsh.yaml newt heron icmp",
		Args:    cobra.RangeArgs(3, 4),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			file := "lab.yaml"
			if len(args) == 4 {
				file, args = args[0], args[1:]
			}
			service, err := lab.ParseService(args[2])
			if err != nil {
				return usage("%v", err)
			}
			if service.Proto == lab.Any ||
				service.Proto != lab.ICMP && (service.AllPorts() || service.From != service.To) {
				return usage("a flow has one protocol and one port, such as tcp/443 or icmp, not %s", args[2])
			}
			p, err := a.load(file)
			if err != nil {
				return err
			}
			from, err := party(p, args[0])
			if err != nil {
				return err
			}
			to, err := party(p, args[1])
			if err != nil {
				return err
			}
			if from == to || from != nil && to != nil && from.Machine == to.Machine {
				return usage("%s to %s is not a flow between two machines", args[0], args[1])
			}
			t := simulator.New(p).Trace(from, to, service)
			if a.format == "json" {
				err = a.json(t)
			} else {
				s := a.screen()
				a.title(s, p, fmt.Sprintf("%s to %s, %s", t.From, t.To, t.Service))
				showTraced(s, t)
				if !t.Passed && !t.Tried {
					a.likeliestInFile(p, true)
				}
				if !a.quiet {
					showSteps(s, file, t, a.verbose)
				}
			}
			if err == nil && !t.Passed {
				err = failure{status: exitBroken}
			}
			return err
		},
	}
}

// party returns the adapter that a name stands for; nil for the outside. Of a
// guest with several it is the one behind an appliance.
func party(p *plan.Plan, name string) (*plan.Adapter, error) {
	if name == "outside" {
		return nil, nil
	}
	m := p.Machine(name)
	if m == nil {
		known := []string{"outside"}
		for _, m := range p.Machines {
			known = append(known, m.Name)
		}
		if near := lab.Nearest(name, known); near != "" {
			return nil, usage("no machine %s; did you mean %s?", name, near)
		}
		return nil, usage("no machine %s in this lab", name)
	}
	for _, a := range m.Adapters {
		if a.Segment.Inside() {
			return a, nil
		}
	}
	return m.Adapters[0], nil
}

// stepStyle gives how a step of a kind is told.
var stepStyle = map[string]style{
	"arp":          faint,
	"name":         plain,
	"packet":       plain,
	"error":        broken,
	"route":        faint,
	"conversation": faint,
	"rule":         inside,
	"translation":  outside,
	"lost":         broken,
}

// showTraced shows whether a flow passes, and where it does not, why and what to change.
func showTraced(s *screen, t simulator.Trace) {
	if t.Passed {
		s.para(0, 2, plain, signHolds+" It passes: "+t.Observed+".")
		return
	}
	s.para(0, 2, plain, s.paint(broken, signBroken)+" It does not pass: "+t.Died+".")
	if t.Observed != "" && !strings.Contains(t.Died, t.Observed) {
		s.para(2, 0, plain, t.From+" got: "+t.Observed)
	}
	if t.Change != "" {
		what := "remedy: " + t.Change
		if t.Tried {
			what += "; tried in memory, and it passes"
		}
		s.para(2, 2, strong, what)
	}
}

// showSteps shows a flow hop by hop. Of one that passes, the hops that matter: verbose adds how
// names and MAC addresses were found, and which routes were taken.
func showSteps(s *screen, file string, t simulator.Trace, verbose bool) {
	rows := table{head: []string{"frame", "at", "machine", "on", "what"}}
	hidden := 0
	for _, x := range t.Steps {
		if t.Passed && !verbose &&
			!slices.Contains([]string{"packet", "error", "rule", "translation", "lost"}, x.Kind) {
			hidden++
			continue
		}
		frame, at := "", ""
		if x.Frame != 0 {
			frame = fmt.Sprint(x.Frame)
			at = (time.Duration(x.Micros) * time.Microsecond).Round(10 * time.Microsecond).String()
		}
		text := x.Text
		if x.Kind == "lost" {
			text = signBroken + " " + text
		}
		if x.Line != 0 {
			text += fmt.Sprintf(" (%s:%d)", file, x.Line)
		}
		if x.Times > 1 {
			text += fmt.Sprintf(", %d times", x.Times)
		}
		rows.add(cell{frame, faint}, cell{at, faint}, cell{x.Machine, strong}, x.Segment, cell{text, stepStyle[x.Kind]})
	}
	if t.Beyond {
		s.para(0, 2, faint, verdict.Introduction)
	}
	s.line()
	s.table(rows)
	if t.More > 0 {
		s.line("  ", s.paint(faint, "… and "+count(t.More, "frame", "frames")+" more"))
	}
	if hidden > 0 {
		s.para(2, 2, faint, "Names, MAC addresses and routes: with --verbose.")
	}
}
