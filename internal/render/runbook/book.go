package runbook

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Book is the whole job.
type Book struct {
	Lab     string
	Lead    string
	Warning string // what is wrong with the lab's layout; every page says it
	Parts   []Part
}

// Part is a stretch of the job that ends where work may pause.
type Part struct {
	Title string
	Steps []Step

	NotYet   []Promise // what must not work before it
	Now      []Promise // what works after it
	Unproved string    // what nobody has seen if one stops behind it
}

// Step is one thing to do.
type Step struct {
	ID       string // stays the same while the lab changes: part.subject
	Title    string
	Why      string // or empty
	Do       []string
	Table    *Table
	See      string // what should be seen then
	Mistakes []Mistake
	Check    Check  // what a pasted listing is judged by
	Machine  string // whose listing
	Keep     string // what to save now, to come back to

	brief bool // it was made short
}

// Table is values to type or to compare.
type Table struct {
	Head []string
	Rows [][]string
	Tick bool // each row is a thing to do
}

// Mistake is what goes wrong at a step, and how that shows.
type Mistake struct{ What, See string }

// Check is what judges a step.
type Check string

// The checks: none, the mapping of an appliance's interfaces, and a guest's
// addresses against the plan.
const (
	NoCheck Check = ""
	Mapped  Check = "map"
	Matches Check = "compare"
)

// writer gathers a book.
type writer struct {
	p     *plan.Plan
	w     *lab.Wording
	moved map[*plan.Adapter]bool // guests' adapters that an earlier step has attached
	only  *plan.Machine          // whose part alone is written; nil: all of it
}

// Of writes the book of a plan in a hypervisor's words.
func Of(p *plan.Plan, w *lab.Wording) Book {
	b := &writer{p: p, w: w, moved: map[*plan.Adapter]bool{}}
	return b.write()
}

func (b *writer) write() Book {
	p := b.p
	book := Book{Lab: p.Name, Lead: p.Lab.Title}
	add := func(title string, steps ...Step) {
		steps = slices.DeleteFunc(steps, func(s Step) bool { return s.ID == "" })
		if len(steps) > 0 {
			book.Parts = append(book.Parts, Part{Title: title, Steps: steps})
		}
	}
	last := func() *Part { return &book.Parts[len(book.Parts)-1] }
	add("Before you begin", b.open(), b.images(), b.room(), b.segments(), b.sockets(), b.strangers())
	if len(book.Parts) > 0 {
		last().Unproved = "everything: nothing is built yet"
	}
	for _, m := range p.Order {
		if m.Appliance != nil {
			b.appliance(m, add, last)
		}
	}
	guests := []Step{b.cables(nil)}
	for _, s := range p.Segments {
		guests = append(guests, b.move(s))
	}
	n := len(book.Parts)
	if add("Guests", guests...); len(book.Parts) > n {
		last().Now, last().Unproved = b.online(), "there is no bypass, and nothing is reachable from outside"
	}
	add("Try it", b.tries()...)
	last().Unproved = "all other packets: `bastion prove LAB` covers them, for the plan and not for the built lab"
	add("When it works", b.keep(), b.coming(), b.autostart(), b.trial(), b.again())
	book.sayOnce()
	return book
}

// appliance writes the parts that build an appliance and set it up.
func (b *writer) appliance(m *plan.Machine, add func(string, ...Step), last func() *Part) {
	build := []Step{b.create(m), b.adapters(m), b.disconnect(m), b.boot(m), b.ready(m)}
	if sourceOf(m).imported() { // the package makes the machine, and its settings are checked then
		build = []Step{b.boot(m), b.create(m), b.adapters(m), b.disconnect(m), b.ready(m)}
	}
	add("Build "+m.Name, build...)
	last().NotYet, last().Unproved = b.notYet(m), "everything; nothing has run yet"
	add("Set up "+m.Name+" at its console", b.first(m), b.which(m), b.console(m), b.restart(m))
	last().Unproved = "traffic through the appliance"
	connect := append(b.swap(m), b.connect(m))
	switch g := near(m); {
	case m.Facts.InFiles():
		add("Set up "+m.Name+" by files", b.files(m))
	case g != nil && facing(m, g).Later() && len(b.replaced(m)) == 0: // its page is behind what is connected later
		add("Connect "+m.Name, connect...)
		connect = nil
		fallthrough
	default:
		add(
			"Set up "+m.Name+" on its pages",
			b.alone(m),
			b.helper(m),
			b.page(m),
			b.settings(m),
			b.translation(m),
			b.rules(m),
			b.leases(m),
			b.renew(m),
			b.armed(m),
			b.backup(m),
		)
	}
	last().Now, last().Unproved = b.setUp(m), "that guests reach outside by it, and by it alone"
	title := "Connect " + m.Name
	if connect == nil {
		title = "Bring " + m.Name + " up to date"
	}
	add(title, append(connect, b.update(m))...)
}

// tries are the tests, from the bottom up.
func (b *writer) tries() []Step {
	var out []Step
	for _, s := range b.p.Segments {
		out = append(out, b.test(s)...)
	}
	out = append(out, b.inbound())
	for _, m := range b.p.Running() {
		out = append(out, b.secondLine(m), b.bridged(m))
	}
	return append(out, b.unplug())
}

// sayOnce leaves out a likely mistake where an earlier step has told it.
func (b *Book) sayOnce() {
	said := map[Mistake]bool{}
	for i := range b.Parts {
		for j := range b.Parts[i].Steps {
			s := &b.Parts[i].Steps[j]
			s.Mistakes = slices.DeleteFunc(s.Mistakes, func(m Mistake) bool {
				was := said[m]
				said[m] = true
				return was
			})
		}
	}
}

// blank stands for a value that is unknown: it is written in by hand.
const blank = "______"

// attach says in the hypervisor's words how an adapter is attached.
func (b *writer) attach(a *plan.Adapter) string {
	if a.Over != nil {
		return fmt.Sprintf("nothing to attach: it rides with tag %d on adapter %d", a.Segment.Tag, a.Number)
	}
	root := a.Segment.Wire.Root()
	word := b.w.Isolated
	switch {
	case a.Role == lab.Unused:
		return "nothing: leave it unplugged"
	case a.Segment.Nowhere(), a.Port != nil && a.Role == "":
		return "nothing yet: it is not decided"
	case root.Reach == lab.Upstream && root.Lab.Join == "nat":
		word = b.w.Translated
	case root.Reach == lab.Upstream:
		word = b.w.Bridged
	case root.Reach == lab.Host:
		word = b.w.HostOnly
	case root.Lab.Uplink != "":
		word = b.w.Bridged
	}
	if a.Segment.Tag != 0 {
		word += b.w.Access
	}
	var tags []string
	for _, o := range a.Riders {
		tags = append(tags, fmt.Sprint(o.Segment.Tag))
	}
	if tags != nil {
		word += b.w.Trunk
	}
	text := b.w.Say(
		word,
		"uplink",
		cmp.Or(root.Lab.Uplink, blank),
		"name",
		root.Called(),
		"tag",
		fmt.Sprint(a.Segment.Tag),
		"tags",
		strings.Join(tags, ", "),
		"number",
		fmt.Sprint(a.Number),
	)
	if !a.Plugged {
		text += ", cable unplugged"
	}
	return text
}

func (b *writer) images() Step {
	s := Step{ID: "images", Title: "Fetch the images and verify them",
		Why: "A medium that was cut short or changed on the way fails late and oddly."}
	t := &Table{Head: []string{"for", "file", "SHA-256", "remark"}, Tick: true}
	for _, m := range b.p.Made() {
		image := lab.Image{}
		if m.Appliance != nil {
			image = m.Appliance.Image
		}
		file := cmp.Or(image.File, m.Spec.Media)
		if m.Appliance == nil && file == "" {
			continue
		}
		remark := ""
		if e := image.Evaluation; e.Days > 0 {
			remark = fmt.Sprintf("may be tried for %d days from %s", e.Days, e.From.Format("2006-01-02"))
		}
		t.Rows = append(t.Rows, []string{m.Name, cmp.Or(file, "its install medium or disk image"),
			cmp.Or(image.SHA256, "as published"), remark})
	}
	if len(t.Rows) == 0 {
		return Step{}
	}
	s.Table = t
	s.Do = []string{"Fetch each file from where its publisher offers it.",
		"`bastion image verify FILE` compares it with the sum; `bastion image inspect FILE` shows its kind and whether it boots.",
		"`bastion image unpack FILE` where it is packed."}
	s.See = "Each sum is the same, and each image is of the kind that the machine needs."
	s.Mistakes = []Mistake{{"the packed file is given to the machine", "it reports that there is nothing to boot"},
		{"an image for another processor", "the screen is black after the first line"}}
	return s
}

func (b *writer) segments() Step {
	s := Step{
		ID:    "segments",
		Title: "Make the networks",
		Table: &Table{Head: []string{"segment", "how", "network", "tag"}, Tick: true},
	}
	for _, seg := range b.p.Segments {
		how := b.w.Say(b.w.Segment, "name", seg.Called())
		switch {
		case seg.Tag != 0:
			how = "nothing to make: it runs tagged on " + seg.Wire.Name
		case seg.Reach == lab.Upstream && seg.Lab.Join == "nat":
			how = b.w.Say(b.w.Translated, "name", seg.Called()) + "; make it where the host has none"
		case seg.Reach == lab.Upstream:
			how = b.w.Say(b.w.Bridged, "uplink", cmp.Or(seg.Lab.Uplink, blank), "name", seg.Called()) +
				"; make it where the host has none"
		case seg.Reach == lab.Host:
			how = b.w.Say(b.w.HostOnly, "name", seg.Called())
		case seg.Lab.Uplink != "":
			how = b.w.Say(
				b.w.Bridged,
				"uplink",
				seg.Lab.Uplink,
				"name",
				seg.Called(),
			) + "; the host has no address there"
		}
		if seg.Reach == lab.Host {
			if seg.HostLeg.IsValid() {
				how += ", the host at " + seg.HostLeg.String()
			}
		}
		tag := ""
		if seg.Tag != 0 {
			tag = fmt.Sprint(seg.Tag)
		}
		s.Table.Rows = append(s.Table.Rows, []string{seg.Name, how, networks(seg), tag})
	}
	s.Do = append(
		s.Do,
		"Where the host keeps changes to its networks until they are applied or saved, apply them now, and see that your own way to it still works.",
	)
	s.See = "Each is in the list that an adapter can be attached to."
	s.Mistakes = []Mistake{{"two networks whose names differ by one letter", "a guest gets no DHCP lease"},
		{
			"an inside network made with an uplink",
			"`bastion rehearse` reports no-bypass, and a guest reaches outside with the appliance off",
		}}
	return s
}

func networks(s *plan.Segment) string {
	if s.Subnet6.IsValid() {
		return s.SubnetText() + " and " + s.Subnet6.String()
	}
	if s.Unknown() {
		return "" // read it on the console, once the WAN has its lease
	}
	return s.SubnetText()
}

func (b *writer) strangers() Step {
	s := Step{ID: "strangers", Title: "Disable other DHCP servers",
		Why: "With two DHCP servers on a segment, guests that take the wrong offer have no path outside, or one that bypasses the appliance."}
	for _, seg := range b.p.Segments {
		if seg.Inside() && seg.Bridged == nil && seg.Tag == 0 {
			s.Do = append(s.Do, b.w.Say(b.w.Leases, "name", seg.Called())+": off.")
		}
	}
	if s.Do == nil {
		return Step{}
	}
	s.See = "The networks' settings show no DHCP server."
	s.Mistakes = []Mistake{{"it is switched off for one network only", "a guest has an address outside the pool"},
		{"it comes back after an update", "addresses that were right are wrong a day later"}}
	return s
}

// answers returns a stage's questions of a machine.
func (b *writer) answers(m *plan.Machine, stage string) *Table {
	t := &Table{Head: []string{"question", "answer", "remark"}, Tick: true}
	said := map[string]bool{}
	for _, a := range b.p.Answers {
		if a.Appliance == m && a.Stage == stage {
			note := a.Note
			if said[note] {
				note = ""
			}
			said[note] = true
			t.Rows = append(t.Rows, []string{a.Whole(), a.Answer, note})
		}
	}
	if len(t.Rows) == 0 {
		return nil
	}
	return t
}

func (b *writer) console(m *plan.Machine) Step {
	t := b.answers(m, "console")
	if t == nil || m.Appliance.Profile == "" {
		return b.assign(m)
	}
	return Step{
		ID:      "console." + m.Name,
		Title:   "Answer the console's questions",
		Table:   t,
		Check:   Matches,
		Machine: m.Name,
		Do: []string{"Where a device's name differs from the likely one, put in what the step before found.",
			"After a mistake, or if the questions start over: answer from the first row again; the last answers count."},
		See: "It lists each port with the address that was planned.",
		Mistakes: []Mistake{
			{"a static upstream gateway on an inside port", "guests reach the appliance and nothing behind it"},
			{"a prefix length of 32 or 8 taken over from the default", "half of a segment cannot be reached"},
		},
	}
}

// assign writes what to enter at an appliance of which nobody said in which order and words it asks.
func (b *writer) assign(m *plan.Machine) Step {
	t := &Table{Head: []string{"port", "adapter", "MAC ends", "address", "gateway", "DHCP pool"}, Tick: true}
	for _, a := range m.Adapters {
		gateway, pool, adapter := "none", "none", fmt.Sprint(a.Number)
		if a.KnownGateway().IsValid() {
			gateway = a.Gateway.String()
		} else if a.How == plan.FromAbove {
			gateway = ""
		}
		if a.Leases != nil {
			pool = a.PoolText()
		} else if a.Role == lab.WAN {
			pool = ""
		}
		if a.Over != nil {
			adapter += fmt.Sprintf(", tag %d", a.Segment.Tag)
		}
		t.Rows = append(t.Rows, []string{a.Name, adapter, "…" + a.MAC.Tail(2), shown(a), gateway, pool})
	}
	s := Step{
		ID:      "console." + m.Name,
		Title:   "Assign the interfaces and their addresses, wherever it asks",
		Table:   t,
		Check:   Matches,
		Machine: m.Name,
		See:     "It lists each port with the address of its row.",
	}
	for _, x := range b.p.Answers {
		if x.Appliance == m && x.Stage == "console" && x.Port == nil {
			s.Do = append(s.Do, x.Whole()+" "+x.Answer)
		}
	}
	s.Mistakes = []Mistake{
		{"a static upstream gateway on an inside port", "guests reach the appliance and nothing behind it"},
		{"a prefix length of 32 or 8 taken over from the default", "half of a segment cannot be reached"},
	}
	return s
}
