package cli

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"openbastion/internal/api"
	"openbastion/internal/classroom/class"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/supervisor"
)

// How many lines of a kind a status shows, unless --verbose.
const (
	shownFlows  = 12
	shownLogged = 10
)

func (a *app) showStatus(args []string, o statusOptions) error {
	if len(args) == 0 {
		if _, err := os.Stat("lab.yaml"); err != nil {
			return a.listStarted()
		}
	}
	l, err := a.find(labArg(args))
	if err != nil {
		return err
	}
	switch {
	case o.watch:
		return a.watchStatus(l)
	case o.page:
		return a.servePage(l, o.at)
	}
	s, err := a.statusOf(l)
	if err != nil {
		return err
	}
	if a.format == "json" {
		err = a.json(s)
	} else {
		a.statusText(s, l)
	}
	if err == nil && (s.Phase == status.Ended || s.Failure != "") {
		err = failure{status: exitBroken}
	}
	return err
}

// listStarted lists every lab that was started and not stopped.
func (a *app) listStarted() error {
	home, err := supervisor.Home()
	if err != nil {
		return failure{exitLacking, err.Error(), ""}
	}
	known, err := supervisor.Known(home)
	if err != nil {
		return failure{exitUsage, err.Error(), ""}
	}
	var names []string
	for name := range known {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int { // bench 2 before bench 10
		return cmp.Or(cmp.Compare(known[a].Bench, known[b].Bench), cmp.Compare(a, b))
	})
	list := []status.Lab{}
	var all []error
	for _, name := range names {
		s, err := a.statusOf(a.held(supervisor.Of(home, name), known[name]))
		if err != nil {
			all = append(all, err)
			continue
		}
		list = append(list, s)
	}
	over, err := classes()
	if err != nil {
		return err
	}
	var spread []class.Record
	for _, name := range slices.Sorted(maps.Keys(over)) {
		spread = append(spread, over[name])
	}
	if a.format == "json" {
		return errors.Join(append(all, a.json(api.Started{Schema: api.StartedSchema, Labs: list, Classes: spread}))...)
	}
	s := a.screen()
	if len(list)+len(spread) == 0 && len(all) == 0 {
		s.line("No lab was started. Next: bastion start LAB")
		return nil
	}
	t := table{head: []string{"lab", "", "checks", "since", "file"}}
	for _, l := range list {
		t.add(l.Lab, phaseCell(l.Phase), checkedCell(l.Checked), l.Since.Local().Format("2006-01-02 15:04"), fromHere(l.File))
	}
	for _, r := range spread {
		t.add(r.Lab, count(len(r.Benches), "bench", "benches")+" on "+count(len(r.Hosts), "host", "hosts"), "",
			r.Started.Local().Format("2006-01-02 15:04"), fromHere(r.File))
	}
	s.table(t)
	return errors.Join(all...)
}

// checkedCell shows in a few words how a lab's checks were last.
func checkedCell(c *status.Checked) cell {
	switch {
	case c == nil:
		return cell{"not yet", faint}
	case c.Broken > 0:
		return cell{fmt.Sprintf("%s %d failed", signBroken, c.Broken), broken}
	case c.Unknown > 0:
		return cell{fmt.Sprintf("%s %d not decided", signUnknown, c.Unknown), plain}
	}
	return cell{fmt.Sprintf("%s %d", signHolds, c.Holds), plain}
}

func phaseCell(p status.Phase) cell {
	if p == status.Ended {
		return cell{signBroken + " " + string(p), broken}
	}
	return cell{string(p), plain}
}

func (a *app) statusText(s status.Lab, l started) {
	out := a.screen()
	where := "on the kernel"
	if s.Stage == onMachines {
		where = "as virtual machines"
	}
	out.line(
		out.paint(strong, s.Lab),
		"  ",
		out.paint(faint, fmt.Sprintf("%s %s since %s (%s), process %d", s.Phase, where,
			s.Since.Local().Format("15:04:05"), time.Since(s.Since).Round(time.Second), s.Process)),
	)
	if l.changed != "" {
		out.para(2, 2, plain, signNote+" it runs as it was started; "+l.changed+".")
		if l.record.Stage == onKernel && l.differs {
			bench := ""
			if n := l.record.Bench; n > 0 {
				bench = fmt.Sprintf(" --bench %d", n)
			}
			out.para(4, 4, faint, "bastion start "+fromHere(l.record.File)+bench+" --dry-run shows the difference.")
		}
	}
	if s.Failure != "" {
		out.para(2, 2, plain, out.paint(broken, signBroken)+" "+s.Failure)
	}
	for _, n := range s.Notes {
		out.para(2, 2, faint, signNote+" "+n)
	}
	if s.Phase == status.Ended {
		return
	}
	for _, e := range s.Escapes {
		out.para(
			2,
			2,
			plain,
			out.paint(broken, fmt.Sprintf("%s escape: %s on %s, %s", signBroken, e.Guest, e.Segment, e.Packet))+
				"  "+e.At.Local().Format("15:04:05"),
		)
	}
	if s.Phase == status.Running {
		showChecked(out, s, l.record.File)
	}
	showMachines(out, s)
	showSegments(out, s)
	showLeases(out, s)
	showRules(out, s)
	showFlows(out, s, a.verbose)
	showLogged(out, s, a.verbose)
}

func showMachines(s *screen, l status.Lab) {
	t := table{head: []string{"machine", "adapter", "segment", "address", "path outside", "received", "sent"}}
	for _, m := range l.Machines {
		name := m.Name
		if m.How != "kernel" {
			name += " (" + m.How + ")"
		}
		for _, x := range m.Adapters {
			address := cell{"none", faint}
			switch {
			case !x.Plugged:
				address = cell{"unplugged", faint}
			case x.Address.IsValid():
				address = cell{x.Address.String(), plain}
			}
			for _, six := range x.IPv6 {
				address.text += " " + six.String()
			}
			t.add(
				name,
				strings.TrimSpace(x.Name+" "+x.Device),
				x.Segment,
				address,
				addressCell(x.Gateway),
				size(x.Received.Bytes),
				size(x.Sent.Bytes),
			)
			name = ""
		}
	}
	s.line()
	s.table(t)
}

func addressCell(a netip.Addr) cell {
	if !a.IsValid() {
		return cell{"", faint}
	}
	return cell{a.String(), plain}
}

func showSegments(s *screen, l status.Lab) {
	t := table{head: []string{"segment", "carried by", "packets", "bytes"}}
	for _, x := range l.Segments {
		t.add(x.Name, x.How, grouped(int(x.Carried.Packets)), size(x.Carried.Bytes))
	}
	s.below(t)
}

func showLeases(s *screen, l status.Lab) {
	t := table{head: []string{"lease", "of", "on", "from", "for"}}
	for _, x := range l.Leases {
		name := x.Hostname
		if x.MAC != (mac.Address{}) && name == "" {
			name = x.MAC.String()
		}
		t.add(x.Address.String(), name, x.Segment, x.Server, plan.Lasting(time.Until(x.Until).Round(time.Minute)))
	}
	s.below(t)
}

func showRules(s *screen, l status.Lab) {
	t := table{head: []string{"rule", "of", "", "packets", "bytes"}}
	for _, x := range l.Rules {
		number := "·"
		if x.Number > 0 {
			number = fmt.Sprint(x.Number)
		}
		t.add(number, x.Appliance, x.Text, grouped(int(x.Hits.Packets)), size(x.Hits.Bytes))
	}
	s.below(t)
}

func showFlows(s *screen, l status.Lab, verbose bool) {
	t := table{head: []string{"flow", "through", "from", "to", "seen outside as", "packets", "bytes"}}
	for i, x := range l.Flows {
		if i == shownFlows && !verbose {
			break
		}
		seen := cell{"as it is", faint}
		switch {
		case x.AnswerTo.Addr() != x.From.Addr():
			seen = cell{status.End(x.AnswerTo), plain}
		case x.AnswerFrom != x.To:
			seen = cell{"for " + status.End(x.AnswerFrom), plain}
		}
		t.add(
			x.Protocol,
			x.Appliance,
			status.End(x.From),
			status.End(x.To),
			seen,
			grouped(int(x.Packets)),
			size(x.Bytes),
		)
	}
	if len(t.rows) == 0 {
		return
	}
	s.line()
	s.table(t)
	if n := len(l.Flows) - len(t.rows); n > 0 {
		s.line("  … and ", count(n, "flow more", "flows more"), "; --verbose or --format json shows all")
	}
}

func showLogged(s *screen, l status.Lab, verbose bool) {
	list := l.Log
	if len(list) > shownLogged && !verbose {
		list = list[len(list)-shownLogged:]
	}
	t := table{head: []string{"logged", "by", "rule", "", "from", "to"}}
	for _, x := range list {
		t.add(x.At.Local().Format("15:04:05"), x.Appliance, x.Rule, x.Protocol, status.End(x.From), status.End(x.To))
	}
	s.below(t)
}
