package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"openbastion/internal/api"
	"openbastion/internal/image"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/identify"
)

func (a *app) imageNeeds() *cobra.Command {
	var write, appliance, machine, told string
	c := &cobra.Command{
		Use: "needs FILE", Short: "What a package of virtual machines requires, and which port each adapter is",
		Long: `Reads a package (OVF or OVA): sizes, adapter models, disk buses, and the networks
of its adapters. With --write it fills image:, needs: and machine: of an appliance
in the lab, maps the package's adapters to its ports, puts the ports into the
package's order with their MAC addresses, and says known-as of segments that
the package calls otherwise; what the file says already stays. Where a network's name does not say which port is meant it asks,
or takes --ports 1=wan,2=lan.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			s, content, err := a.pack(args[0], machine)
			if err != nil {
				return err
			}
			if content.Broken() {
				showContent(newScreen(a.err, a.color), content)
				return failure{exitBroken, args[0] + " is broken; nothing is taken from it", ""}
			}
			built, needs := image.Built(*s), image.Needs(*s)
			if write == "" {
				return a.showNeeds(built, needs, nil)
			}
			p, err := a.load(write)
			if err != nil {
				return err
			}
			m, err := machineNamed(p, appliance)
			if err != nil {
				return err
			}
			if m.Appliance == nil {
				return usage("%s is a guest; image: and needs: belong to an appliance", m.Name)
			}
			wiring := identify.Wire(p, m, built)
			if err := useTold(m, wiring, told); err != nil {
				return err
			}
			if err := a.askWiring(m, wiring); err != nil {
				return err
			}
			if err := a.showNeeds(built, needs, wiring); err != nil {
				return err
			}
			return a.writeNeeds(write, args[0], m, built, needs, wiring)
		},
	}
	c.Flags().StringVar(&write, "write", "", "the lab file to fill")
	c.Flags().StringVar(&appliance, "appliance", "", "which appliance of the lab it is (default: the first)")
	c.Flags().StringVar(&machine, "machine", "", "which machine of the package, when it has several")
	c.Flags().StringVar(&told, "ports", "", "which port each adapter is, as 1=wan,2=lan; order for: in order")
	return c
}

// useTold takes what a person said of adapters and ports.
func useTold(m *plan.Machine, wiring identify.Wiring, told string) error {
	if told == "" {
		return nil
	}
	if told == "order" {
		wiring.InOrder(m)
		return nil
	}
	for part := range strings.SplitSeq(told, ",") {
		number, name, ok := strings.Cut(strings.TrimSpace(part), "=")
		k, err := strconv.Atoi(number)
		if !ok || err != nil || k < 1 || k > len(wiring) {
			return usage(
				"--ports takes ADAPTER=PORT pairs such as 1=wan,2=lan; the package has adapters 1 to %d, and %q is none of them",
				len(wiring),
				part,
			)
		}
		a, err := portNamed(m, name)
		if err != nil {
			return usage("--ports: %v", err)
		}
		wiring.Tell(k-1, a)
	}
	return nil
}

func portNamed(m *plan.Machine, name string) (*plan.Adapter, error) {
	var names []string
	for _, a := range m.Own() {
		if a.Name == name {
			return a, nil
		}
		names = append(names, a.Name)
	}
	return nil, fmt.Errorf("%s has no port %s; it has %s", m.Name, name, strings.Join(names, ", "))
}

// askWiring asks for every adapter whose port is in doubt, when ports are left
// that it could be.
func (a *app) askWiring(m *plan.Machine, wiring identify.Wiring) error {
	doubts := wiring.Doubts(m)
	if len(doubts) == 0 {
		return nil
	}
	in, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		w := wiring[doubts[0]]
		return failure{exitUsage, fmt.Sprintf("adapter %d of the package: %s", w.Adapter.Number, w.Doubt),
			"assign the adapters to ports: --ports 1=wan,2=lan, or --ports order"}
	}
	return a.dialogue(in, func(d *dialogue) error {
		for _, k := range doubts {
			w := wiring[k]
			fallback := ""
			if w.Port != nil {
				fallback = w.Port.Name
			}
			question := fmt.Sprintf("Which port is adapter %d, on %q", w.Adapter.Number, w.Adapter.Network)
			more := w.Doubt + "The package's order of adapters is fixed; the lab's ports are put into it."
			if err := d.ask(question, fallback, more, func(line string) error {
				port, err := portNamed(m, line)
				if err == nil {
					wiring.Tell(k, port)
				}
				return err
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

func (a *app) showNeeds(b identify.Built, n lab.Needs, wiring identify.Wiring) error {
	rows := []api.NeededAdapter{}
	for k, x := range b.Adapters {
		r := api.NeededAdapter{Number: x.Number, Network: x.Network, Model: strings.Join(x.Models, " or ")}
		if wiring != nil && wiring[k].Port != nil {
			r.Port, r.Segment, r.How = wiring[k].Port.Name, wiring[k].Port.Segment.Name, wiring[k].How
		}
		rows = append(rows, r)
	}
	if a.format == "json" {
		return a.json(
			api.Needs{
				Schema:   api.NeedsSchema,
				Machine:  b.Name,
				CPUs:     n.CPUs,
				Memory:   n.Memory,
				Disk:     n.Disk,
				NICs:     append([]string{}, n.NICs...),
				Buses:    append([]string{}, n.DiskBuses...),
				Adapters: rows,
			},
		)
	}
	s := a.screen()
	s.line(s.paint(strong, b.Name), "  ", s.paint(faint, "what the package requires"))
	s.line()
	t := table{}
	for _, kv := range n.Keys() {
		t.add(cell{kv[0], faint}, kv[1])
	}
	s.table(t)
	s.line()
	t = table{head: []string{"adapter", "network", "model", "port", "segment", "by"}}
	for _, r := range rows {
		t.add(fmt.Sprint(r.Number), cell{r.Network, strong}, r.Model, cell{r.Port, inside}, r.Segment, r.How)
	}
	s.table(t)
	return nil
}

// writeNeeds fills image: and needs: and puts the ports into the package's order.
func (a *app) writeNeeds(
	file, pack string,
	m *plan.Machine,
	built identify.Built,
	n lab.Needs,
	wiring identify.Wiring,
) error {
	digest, err := a.digest(pack)
	if err != nil {
		return err
	}
	data, err := a.text(file)
	if err != nil {
		return err
	}
	filled := identify.Package{
		File:   filepath.Base(pack),
		SHA256: digest,
		Needs:  n,
		Built:  built,
		Wiring: wiring,
	}.Fill(
		data,
		m,
	)
	if filled.Moved {
		a.note("the ports of " + m.Name + " now follow the order of the package's adapters")
	}
	for _, text := range append(filled.Kept, wiring.Unconnected()...) {
		a.note(text)
	}
	return a.rewrite(file, data, filled.Text, filled.Changes)
}

// digest takes a file's SHA-256.
func (a *app) digest(file string) (string, error) {
	f, size, err := a.open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	counted := &image.Counted{ReaderAt: f}
	stop := a.meter("reading "+filepath.Base(file), size, counted.Count)
	defer stop()
	digest, err := image.Digest("sha256", image.All(counted, size))
	if err != nil {
		return "", failure{exitUsage, fmt.Sprintf("cannot read %s: %v", file, cause(err)), ""}
	}
	return digest, nil
}
