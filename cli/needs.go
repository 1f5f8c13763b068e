package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"openbastion/core/identify"
	"openbastion/core/lab"
	"openbastion/core/plan"
	"openbastion/image"
)

func (a *app) imageNeeds() *cobra.Command {
	var write, appliance, machine, told string
	c := &cobra.Command{
		Use: "needs FILE", Short: "What a package of machines asks of its machine, and which port each adapter is",
		Long: `Reads a package (OVF or OVA): sizes, adapter models, disk buses, and the networks
of its adapters. With --write it fills image: and needs: of an appliance in the
lab, maps the package's adapters to its ports, and puts the ports into the
package's order. Where a network's name does not say which port is meant it asks,
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
			return a.writeNeeds(write, args[0], m, needs, wiring)
		},
	}
	c.Flags().StringVar(&write, "write", "", "the lab file to fill")
	c.Flags().StringVar(&appliance, "appliance", "", "which appliance of the lab it is; the first when absent")
	c.Flags().StringVar(&machine, "machine", "", "which machine of the package, when it has several")
	c.Flags().StringVar(&told, "ports", "", "which port each adapter is, as 1=wan,2=lan; order for: in order")
	return c
}

// useTold takes what a person said of adapters and ports.
func useTold(m *plan.Machine, wiring []identify.Wiring, told string) error {
	if told == "" {
		return nil
	}
	if told == "order" {
		ports := m.Own()
		for k := range wiring {
			wiring[k].Port, wiring[k].How, wiring[k].Doubt = nil, "order", ""
			if k < len(ports) {
				wiring[k].Port = ports[k]
			}
		}
		return nil
	}
	for part := range strings.SplitSeq(told, ",") {
		number, name, ok := strings.Cut(strings.TrimSpace(part), "=")
		k, err := strconv.Atoi(number)
		if !ok || err != nil || k < 1 || k > len(wiring) {
			return usage("--ports takes ADAPTER=PORT pairs such as 1=wan,2=lan; the package has adapters 1 to %d, and %q is none of them",
				len(wiring), part)
		}
		a, err := portNamed(m, name)
		if err != nil {
			return usage("--ports: %v", err)
		}
		take(wiring, k-1, a)
	}
	return nil
}

// take gives an adapter a port; who had it before has none.
func take(wiring []identify.Wiring, k int, a *plan.Adapter) {
	for j := range wiring {
		if wiring[j].Port == a && j != k {
			wiring[j].Port, wiring[j].Doubt = nil, fmt.Sprintf("its port %s went to adapter %d", a.Name, k+1)
		}
	}
	wiring[k].Port, wiring[k].How, wiring[k].Doubt = a, "told", ""
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
func (a *app) askWiring(m *plan.Machine, wiring []identify.Wiring) error {
	var doubts []int
	for k, w := range wiring {
		if w.Doubt != "" && (w.Port != nil || left(m, wiring) > 0) {
			doubts = append(doubts, k)
		}
	}
	if len(doubts) == 0 {
		return nil
	}
	in, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		w := wiring[doubts[0]]
		return failure{exitUsage, fmt.Sprintf("adapter %d of the package: %s", w.Adapter.Number, w.Doubt),
			"say which port each adapter is: --ports 1=wan,2=lan, or --ports order"}
	}
	return a.dialogue(in, func(d *dialogue) error {
		for _, k := range doubts {
			w := wiring[k]
			fallback := ""
			if w.Port != nil {
				fallback = w.Port.Name
			}
			question := fmt.Sprintf("Which port is adapter %d, on %q", w.Adapter.Number, w.Adapter.Network)
			more := w.Doubt + ". The package's order of adapters is fixed; the ports in the lab are put into it."
			if err := d.ask(question, fallback, more, func(line string) error {
				port, err := portNamed(m, line)
				if err == nil {
					take(wiring, k, port)
				}
				return err
			}); err != nil {
				return err
			}
		}
		return nil
	})
}

// left counts the ports that no adapter has.
func left(m *plan.Machine, wiring []identify.Wiring) int {
	n := 0
	for _, a := range m.Own() {
		if !slices.ContainsFunc(wiring, func(w identify.Wiring) bool { return w.Port == a }) {
			n++
		}
	}
	return n
}

func (a *app) showNeeds(b identify.Built, n lab.Needs, wiring []identify.Wiring) error {
	type row struct {
		Number  int    `json:"number"`
		Network string `json:"network"`
		Model   string `json:"model"`
		Port    string `json:"port,omitempty"`
		Segment string `json:"segment,omitempty"`
		How     string `json:"how,omitempty"`
	}
	rows := []row{}
	for k, x := range b.Adapters {
		r := row{Number: x.Number, Network: x.Network, Model: strings.Join(x.Models, " or ")}
		if wiring != nil && wiring[k].Port != nil {
			r.Port, r.Segment, r.How = wiring[k].Port.Name, wiring[k].Port.Segment.Name, wiring[k].How
		}
		rows = append(rows, r)
	}
	if a.format == "json" {
		return a.json(struct {
			Schema   string    `json:"schema"`
			Machine  string    `json:"machine"`
			CPUs     int       `json:"cpus"`
			Memory   lab.Bytes `json:"memory"`
			Disk     lab.Bytes `json:"disk"`
			NICs     []string  `json:"nics"`
			Buses    []string  `json:"disk_buses"`
			Adapters []row     `json:"adapters"`
		}{"openbastion.needs/1", b.Name, n.CPUs, n.Memory, n.Disk, append([]string{}, n.NICs...), append([]string{}, n.DiskBuses...), rows})
	}
	s := a.screen()
	s.line(s.paint(strong, b.Name), "  ", s.paint(faint, "what the package asks of its machine"))
	s.line()
	t := table{}
	for _, kv := range needsKeys(n) {
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

// needsKeys gives the keys of needs: that are known, as the lab file has them.
func needsKeys(n lab.Needs) [][2]string {
	var keys [][2]string
	add := func(key, value string, known bool) {
		if known {
			keys = append(keys, [2]string{key, value})
		}
	}
	list := func(v []string) string {
		var out []string
		for _, x := range v {
			out = append(out, lab.Value(x))
		}
		return "[" + strings.Join(out, ", ") + "]"
	}
	add("cpus", fmt.Sprint(n.CPUs), n.CPUs > 0)
	add("memory", n.Memory.String(), n.Memory > 0)
	add("disk", n.Disk.String(), n.Disk > 0)
	add("nics", list(n.NICs), len(n.NICs) > 0)
	add("disk-buses", list(n.DiskBuses), len(n.DiskBuses) > 0)
	return keys
}

// writeNeeds fills image: and needs: and puts the ports into the package's order.
func (a *app) writeNeeds(file, pack string, m *plan.Machine, n lab.Needs, wiring []identify.Wiring) error {
	digest, err := a.digest(pack)
	if err != nil {
		return err
	}
	data, err := a.text(file)
	if err != nil {
		return err
	}
	e := lab.NewEditor(data)
	set := func(name string, o lab.Object, keys [][2]string) {
		if m.Appliance.Has(name) {
			for _, kv := range keys {
				e.Set(o, kv[0], kv[1])
			}
			return
		}
		var parts []string
		for _, kv := range keys {
			parts = append(parts, kv[0]+": "+kv[1])
		}
		e.Set(m.Appliance, name, "{"+strings.Join(parts, ", ")+"}")
	}
	set("image", &m.Appliance.Image, [][2]string{{"file", lab.Value(filepath.Base(pack))}, {"sha256", digest}})
	set("needs", &m.Appliance.Needs, needsKeys(n))
	if order, moved := portOrder(m, wiring); moved {
		var ports []lab.Object
		for k := range m.Appliance.Ports {
			ports = append(ports, m.Appliance.Ports[k])
		}
		e.Reorder(ports, order)
		a.note("the ports of " + m.Name + " now stand in the order of the package's adapters")
	}
	for k, w := range wiring {
		switch {
		case w.Port != nil:
		case slices.ContainsFunc(wiring[k:], func(w identify.Wiring) bool { return w.Port != nil }):
			a.note(fmt.Sprintf("adapter %d of the package (%q) is of no port and stands before others that are: the lab would count them wrong; add a port for it, such as one with role manage, as the port in place %d", w.Adapter.Number, w.Adapter.Network, w.Adapter.Number))
		default:
			a.note(fmt.Sprintf("adapter %d of the package (%q) is of no port: leave it unconnected, or add a port", w.Adapter.Number,
				w.Adapter.Network))
		}
	}
	return a.rewrite(file, data, e.Bytes(), e.Changed())
}

// digest takes a file's SHA-256.
func (a *app) digest(file string) (string, error) {
	f, size, err := open(file)
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

// portOrder gives the places of the file's ports when those with adapters stand
// in the package's order; moved tells whether that changes anything.
func portOrder(m *plan.Machine, wiring []identify.Wiring) (order []int, moved bool) {
	place := map[*plan.Adapter]int{}
	for _, a := range m.Adapters {
		place[a] = slices.Index(m.Appliance.Ports, a.Port)
	}
	var wanted []int // places of the wired ports, in the package's order
	for _, w := range wiring {
		if w.Port != nil {
			wanted = append(wanted, place[w.Port])
		}
	}
	for _, a := range m.Own() { // then those that the package has no adapter for
		if !slices.Contains(wanted, place[a]) {
			wanted = append(wanted, place[a])
		}
	}
	own := slices.Sorted(slices.Values(wanted))
	for k := range m.Appliance.Ports {
		order = append(order, k)
	}
	for n, k := range own { // sub-interfaces stay where they are
		order[k] = wanted[n]
		moved = moved || wanted[n] != k
	}
	return order, moved
}
