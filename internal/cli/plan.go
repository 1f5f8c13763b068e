package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"openbastion/internal/export/sheet"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// part is one part of a plan: what makes its tables.
type part struct {
	name   string
	tables func(*plan.Plan) []section
}

// section is a table with its heading.
type section struct {
	title string
	table table
}

// planParts are the parts in the order in which they are shown.
var planParts = []part{
	{"segments", wireTables},
	{"adapters", adapterTables},
	{"addresses", addressTables},
	{"dhcp", leaseTables},
	{"nat", natTables},
	{"rules", ruleTables},
	{"machines", machineTables},
	{"answers", answerTables},
}

func (a *app) plan() *cobra.Command {
	var only, form string
	var write bool
	var carry carryOptions
	c := &cobra.Command{
		Use: "plan [LAB]", Short: "Show addresses, adapters, DHCP, NAT and rules",
		Long: `Shows everything the lab consists of: what the lab file gives, and what the plan
chose where the file is silent. Chosen values are marked with *. With --write
they are put into the file, so that they stay whatever is added later.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			names := []string{"overview", "all"}
			for _, p := range planParts {
				names = append(names, p.name)
			}
			if !oneOf(only, names...) {
				return usage("--part is %s, not %q", strings.Join(names, ", "), only)
			}
			if err := a.wantForm(form, "text", "markdown", "csv"); err != nil {
				return err
			}
			if form == "csv" && only != "addresses" {
				return usage("csv is the address list: use --part addresses")
			}
			if write && labArg(args) == "-" {
				return usage("--write changes a file; standard input is none")
			}
			p, err := a.loadWarned(labArg(args))
			if err != nil {
				return err
			}
			if write {
				return a.pin(labArg(args), p)
			}
			if carry.guest != "" {
				return a.planFor(labArg(args), p, carry)
			}
			if carry != (carryOptions{}) {
				return usage("--bench, --witness, --name and --to go with --for")
			}
			return a.showPlan(p, only, form)
		},
	}
	c.Flags().
		StringVar(&only, "part", "overview", "overview, all, segments, adapters, addresses, dhcp, nat, rules, machines or answers")
	c.Flags().StringVar(&form, "form", "text", "text, markdown, or csv (the addresses)")
	c.Flags().
		StringVar(&carry.guest, "for", "", "write what this guest needs for \"bastion probe\", as a line to paste or a file")
	c.Flags().StringVar(&carry.bench, "bench", "", "with --for: the guest's bench, if there are several")
	c.Flags().StringVar(&carry.witness, "witness", "", "with --for: the address of the test server outside")
	c.Flags().StringVar(&carry.name, "name", "", "with --for: a name that resolves to the test server")
	c.Flags().StringVar(&carry.to, "to", "", "with --for: write it to this file")
	c.Flags().BoolVar(&carry.replace, "replace", false, "with --for: replace an existing file")
	c.Flags().BoolVar(&write, "write", false, "put the chosen values into the lab file")
	return c
}

func (a *app) showPlan(p *plan.Plan, only, form string) error {
	switch {
	case a.format == "json":
		return a.json(p.Document())
	case form == "csv":
		_, err := a.out.Write(sheet.Book(p).Data)
		return err
	}
	s := a.screen()
	if form == "markdown" {
		s.line("# ", p.Name, " ", p.Lab.Title)
	} else {
		showTitle(s, p, "")
	}
	for _, x := range append([]part{{"overview", overviewTables}}, planParts...) {
		if only != x.name && (only != "all" || x.name == "overview") {
			continue
		}
		for _, t := range x.tables(p) {
			if form == "markdown" {
				s.markdown(t)
			} else {
				s.section(t)
			}
		}
	}
	if only == "overview" && form == "text" {
		s.line()
		s.para(
			2,
			2,
			faint,
			planLegend(
				p,
			)+"More with --part: segments, machines (sizes, start order), answers (what the appliance asks), all.",
		)
	}
	return nil
}

// section shows a table under its heading, when it has rows.
func (s *screen) section(t section) {
	if len(t.table.rows) > 0 {
		s.heading(t.title)
		s.table(t.table)
	}
}

// markdown writes a table as GitHub-flavoured Markdown does.
func (s *screen) markdown(t section) {
	if len(t.table.rows) == 0 {
		return
	}
	s.line()
	s.line("## ", t.title)
	s.line()
	bar := func(cells []string) {
		for i, c := range cells {
			cells[i] = strings.ReplaceAll(c, "|", `\|`)
		}
		s.line("| ", strings.Join(cells, " | "), " |")
	}
	columns := len(t.table.head)
	bar(append([]string(nil), t.table.head...))
	bar(strings.Split(strings.Repeat("--- ", columns), " ")[:columns])
	for _, row := range t.table.rows {
		cells := make([]string, columns)
		for i, c := range row {
			cells[i] = c.text
		}
		bar(cells)
	}
	for _, n := range t.table.notes {
		s.line()
		s.line(n)
	}
}

func showTitle(s *screen, p *plan.Plan, what string) {
	title := p.Lab.Title
	if what != "" {
		title = what
	}
	s.line(s.paint(strong, p.Name), "  ", s.paint(faint, title))
}

// title is showTitle, unless only the verdict is wanted.
func (a *app) title(s *screen, p *plan.Plan, what string) {
	if !a.quiet {
		showTitle(s, p, what)
	}
}

// segmentStyle colours a segment by which side of the appliance it is on.
func segmentStyle(seg *plan.Segment) style {
	if seg.Reach == lab.Upstream {
		return outside
	}
	return inside
}

func roleStyle(r lab.Role) style {
	switch {
	case r == lab.WAN:
		return outside
	case r != "":
		return inside
	}
	return plain
}

func segmentCell(seg *plan.Segment) cell { return cell{seg.Name, segmentStyle(seg)} }

func starred(text string, planned bool) string {
	if planned && text != "" {
		return text + "*"
	}
	return text
}

func wireTables(p *plan.Plan) []section {
	t := table{head: []string{"segment", "switch", "subnet", "gateway", "free", "reach"}}
	for _, seg := range p.Segments {
		on := seg.Wire.Name
		if seg.Tag != 0 {
			on += fmt.Sprintf(", tag %d", seg.Tag)
		}
		free := grouped(seg.Free())
		if seg.Unknown() {
			free = ""
		}
		t.add(segmentCell(seg), on, subnetText(seg), gatewayOf(seg), free,
			cell{reachWords(seg), faint})
	}
	return []section{{"Segments", t}}
}

func gatewayOf(seg *plan.Segment) string {
	if !seg.KnownGateway().IsValid() {
		return ""
	}
	planned := seg.Port != nil && seg.Port.Planned || seg.Reach == lab.Upstream && !seg.Lab.Gateway.IsValid()
	return starred(seg.Gateway.String(), planned)
}

// reachWords says in plain words how far a segment extends.
func reachWords(seg *plan.Segment) string {
	switch {
	case seg.Bridged != nil:
		return "one network with " + seg.Bridged.Name + ", through the appliance"
	case seg.Reach == lab.Upstream && seg.Lab.Join == "nat":
		return "upstream, NAT by the host"
	case seg.Reach == lab.Upstream && seg.Lab.Uplink != "":
		return "upstream, bridged to " + seg.Lab.Uplink
	case seg.Reach == lab.Upstream:
		return "upstream, bridged"
	case seg.Reach == lab.Host && seg.Lab.HostForwards:
		return "the host has " + seg.HostLeg.Addr().String() + " and forwards"
	case seg.Reach == lab.Host:
		return "the host has " + seg.HostLeg.Addr().String()
	}
	switch {
	case seg.Lab.Reach == "":
		return "not decided yet"
	case seg.Lab.Uplink != "":
		return "the lab's own, and what is attached to " + seg.Lab.Uplink
	}
	return "isolated"
}

func adapterTables(p *plan.Plan) []section {
	list := table{head: []string{"machine", "no.", "port", "MAC address", "segment", "likely device", "model"}}
	attach := table{head: []string{"machine", "no.", "adapter"}}
	for _, ad := range p.Adapters {
		port := ad.Name
		if ad.Guest != nil {
			port = ""
		}
		list.add(
			ad.Machine.Name,
			fmt.Sprint(ad.Number),
			cell{port, roleStyle(ad.Role)},
			starred(ad.MAC.String(), !ad.MACGiven),
			segmentCell(ad.Segment),
			strings.Join(ad.Devices, " or "),
			ad.NIC,
		)
		attach.add(ad.Machine.Name, fmt.Sprint(ad.Number), attachment(ad))
	}
	return []section{{"Adapters", list}, {"Attachment", attach}}
}

func addressTables(p *plan.Plan) []section {
	book := table{head: []string{"name", "segment", "address", "how", "gateway"}}
	for _, ad := range p.Adapters {
		address := ad.Shown()
		if ad.Address.IsValid() && !ad.Unknown() {
			address = starred(address, ad.Planned)
		}
		if ad.Address6.IsValid() {
			address += " " + starred(ad.Address6.String(), true)
		}
		gateway := ""
		if ad.KnownGateway().IsValid() {
			gateway = ad.Gateway.String()
		}
		book.add(ad.Machine.Name, segmentCell(ad.Segment), address, string(ad.How), gateway)
	}
	nets := table{head: []string{"segment", "network", "mask", "wildcard"}}
	ranges := table{head: []string{"segment", "first", "last", "broadcast", "pool", "free"}}
	sixes := table{head: []string{"segment", "IPv6 network"}}
	for _, seg := range p.Segments {
		if seg.HostLeg.IsValid() {
			book.add(
				"host",
				segmentCell(seg),
				starred(seg.HostLeg.String(), !seg.Lab.HostAddress.IsValid()),
				string(plan.Static),
				"",
			)
		}
		pool := ""
		if seg.Port != nil && seg.Port.Leases != nil {
			pool = starred(seg.Port.PoolText(), seg.Port.Leases.Planned)
		}
		n := seg.Subnet
		if seg.Unknown() {
			continue
		}
		nets.add(segmentCell(seg), subnetText(seg), subnet.Mask(n.Bits()), subnet.Wildcard(n.Bits()))
		ranges.add(
			segmentCell(seg),
			subnet.First(n).String(),
			subnet.Last(n).String(),
			subnet.Broadcast(n).String(),
			pool,
			grouped(seg.Free()),
		)
		if seg.Subnet6.IsValid() {
			sixes.add(segmentCell(seg), starred(seg.Subnet6.String(), true))
		}
	}
	return []section{{"Addresses", book}, {"Subnets", nets}, {"Addresses of each subnet", ranges}, {"IPv6", sixes}}
}

func leaseTables(p *plan.Plan) []section {
	t := table{head: []string{"segment", "server", "pool", "router", "DNS", "domain", "lease time"}}
	for _, ad := range p.Adapters {
		v := ad.Leases
		if v == nil {
			continue
		}
		var dns []string
		for _, d := range v.DNS {
			dns = append(dns, d.String())
		}
		t.add(
			segmentCell(ad.Segment),
			ad.Machine.Name,
			starred(ad.PoolText(), v.Planned),
			v.Router.String(),
			strings.Join(dns, " "),
			v.Domain,
			plan.Lasting(v.Time),
		)
	}
	for _, seg := range p.Segments {
		if seg.HostPool != nil {
			t.add(segmentCell(seg), "host", starred(seg.HostPool.String(), true), "", "", "", "1h")
		}
		if g := p.Lab.Guest(seg.Lab.Leases); g != nil {
			t.add(segmentCell(seg), g.Name, "its own", "", "", "", "")
		}
	}
	return []section{{"DHCP", t}}
}

func natTables(p *plan.Plan) []section {
	t := table{head: []string{"appliance", "kind", "from", "to"}}
	for _, d := range p.Document().NAT {
		t.add(d.Appliance, d.Kind, d.From, natTarget(d))
	}
	return []section{{"NAT", t}}
}

// natTarget returns what an address or a port is translated to.
func natTarget(d plan.NATDoc) string {
	if d.Kind == plan.SourceNAT {
		return "the WAN address"
	}
	return d.To
}

func ruleTables(p *plan.Plan) []section {
	var out []section
	for _, m := range p.Appliances() {
		t := table{head: []string{"no.", "rule", "from"}}
		for i, r := range m.Rules {
			st := plain
			if r.Action != lab.Allow {
				st = broken
			}
			t.add(fmt.Sprint(i+1), cell{r.Text, st}, cell{r.Place(), faint})
		}
		t.add("", cell{"default deny; replies to allowed connections pass", broken}, "")
		out = append(out, section{"Rules of " + m.Name + ", first match decides", t})
	}
	return out
}

func machineTables(p *plan.Plan) []section {
	t := table{head: []string{"machine", "CPUs", "memory", "disk", "bus", "model", "queues", "boot", "reason"}}
	var names []string
	for _, m := range p.Order {
		names = append(names, m.Name)
	}
	for _, m := range p.Machines {
		v := m.Spec
		memory := v.Memory.String()
		if v.MemoryFloor < v.Memory {
			memory += " to " + v.MemoryFloor.String()
		}
		t.add(
			m.Name,
			fmt.Sprint(v.CPUs),
			memory,
			v.Disk.String(),
			v.DiskBus,
			v.NIC,
			fmt.Sprint(v.Queues),
			strings.Join(v.Boot, ", "),
			cell{strings.Join(v.Why, "; "), faint},
		)
	}
	order := table{head: []string{"start order"}}
	order.add(strings.Join(names, ", "))
	return []section{{"Machines", t}, {"Start order", order}}
}

func answerTables(p *plan.Plan) []section {
	var out []section
	for _, m := range p.Appliances() {
		out = append(out, assumedTable(m))
		for _, stage := range []struct{ name, title string }{{"console", "Answers for the console of %s (%s)"},
			{"pages", "Answers for the web page of %s (%s)"}} {
			out = append(
				out,
				section{
					fmt.Sprintf(stage.title, m.Name, profileText(m)),
					answerTable(p.Answers, m, stage.name),
				},
			)
		}
	}
	t := table{head: []string{"admin page", "of", "when"}}
	for _, x := range p.Pages {
		when := "as planned; self-signed certificate, a browser warns once"
		if x.Factory {
			when = "factory setting, until it is configured"
		}
		t.add(cell{x.URL, strong}, x.Appliance.Name, cell{when, faint})
	}
	return append(out, section{"Admin pages", t})
}

// answerTable shows what an appliance asks at a stage; what the questions are
// about, and each remark, is said once.
func answerTable(answers []plan.Answer, m *plan.Machine, stage string) table {
	t := table{head: []string{"about", "question", "answer"}}
	about := ""
	for _, x := range answers {
		if x.Appliance != m || x.Stage != stage {
			continue
		}
		shown := x.About
		if shown == about {
			shown = ""
		}
		about = x.About
		t.add(shown, x.Question, cell{x.Answer, strong})
		if x.Note != "" && !slices.Contains(t.notes, x.Note) {
			t.notes = append(t.notes, x.Note)
		}
	}
	return t
}

// assumedTable warns where the kind of appliance takes an adapter for another
// role than planned unless it is told.
func assumedTable(m *plan.Machine) section {
	t := table{head: []string{"adapter", "taken for", "planned as", ""}}
	for _, a := range m.Adapters {
		if role := a.Assumed(); role != "" && role != a.Role {
			t.add(
				fmt.Sprintf("%d (…%s)", a.Number, a.MAC.Tail(2)),
				cell{string(role), broken},
				cell{string(a.Role), roleStyle(a.Role)},
				cell{"answer by MAC address, not by order", faint},
			)
		}
	}
	return section{fmt.Sprintf("Default interface assignment of %s", m.Name), t}
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

// profileText names the profile that the lab file chooses for an appliance.
func profileText(m *plan.Machine) string {
	if m.Facts.Name == "" {
		return "no profile chosen: wherever it asks"
	}
	return "profile " + m.Facts.Name
}
