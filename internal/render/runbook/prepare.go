package runbook

import (
	"cmp"
	"fmt"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// room returns where machines and images lie, and how much they take.
func (b *writer) room() Step {
	t := &Table{Head: []string{"for", "room", "what lies there"}, Tick: true}
	var disk, memory lab.Bytes
	for _, m := range b.p.Order {
		disk, memory = disk+m.Spec.Disk, memory+m.Spec.Memory
		if m.Appliance == nil {
			continue
		}
		what := "its disk"
		if f := sourceOf(m).file; f != "" {
			what = "its disk, and " + f + ", which can be downloaded again"
		}
		t.Rows = append(t.Rows, []string{m.Name, m.Spec.Disk.String(), what})
	}
	if len(t.Rows) == 0 {
		return Step{}
	}
	s := Step{ID: "room", Title: "Make room", Table: t,
		Do: []string{
			fmt.Sprintf(
				"All machines together take up to %s of disk and %s of memory while they run; a further guest takes its own on top.",
				disk,
				memory,
			),
			"A disk that is taken as it fills starts small and grows up to its size; one taken at once is there from the start. Neither has to do with memory.",
			"Where the host mirrors its disks already, one plain disk is enough.",
			"Does the host have to format a volume for this? That erases all that is on it: look twice at which one it is.",
		},
		See: "More space is free than the table requires.",
		Mistakes: []Mistake{{"the volume fills up while a machine runs", "the machine stops, or its disk is damaged"},
			{"an image is on a USB stick that is removed later", "the machine does not start, as its medium is missing"}}}
	return s
}

// ready is the last look before the first start.
func (b *writer) ready(m *plan.Machine) Step {
	t := &Table{Head: []string{"look at", "it must be"}, Tick: true}
	add := func(what, must string) { t.Rows = append(t.Rows, []string{what, must}) }
	add("adapters", fmt.Sprintf("%d, in the order of the table before", len(m.Own())))
	segments := map[string]bool{}
	var names []string
	for _, a := range m.Own() {
		if a.Plugged && !segments[a.Segment.Called()] {
			segments[a.Segment.Called()] = true
			names = append(names, a.Segment.Called())
		}
	}
	add("networks", "all are there, and named letter by letter: "+strings.Join(names, ", "))
	if f := sourceOf(m).file; f != "" {
		add("image", f+", attached")
	}
	for _, need := range m.Facts.Installing {
		add("for the installation", installing[need])
	}
	return Step{ID: "ready." + m.Name, Title: "Stop before the first start of " + m.Name, Table: t,
		Why: "A missing value is asked for by the installer, or guessed.",
		Do:  []string{"Read the values back from the machine's settings: a form can drop one without a word."},
		See: "Every row matches.",
		Mistakes: []Mistake{{"it is started with one adapter, the others are added later",
			"the system numbers them again, and WAN has become LAN"},
			{"the machine is a copy with the same MAC addresses",
				"both lose packets alternately while they are on one network"}}}
}

// installing says what an installer needs.
var installing = map[string]string{
	"outside": "a WAN that works: it fetches parts while it installs",
	"account": "an account with its publisher, at hand",
	"licence": "a licence or trial key, at hand; it checks it then",
}

// renewals are how one asks for a lease again, by family of systems.
var renewals = map[string]string{
	"linux":   "`nmcli device reapply DEVICE`, `networkctl renew DEVICE`, or `dhclient -r DEVICE; dhclient DEVICE`",
	"bsd":     "`dhclient DEVICE` after `pkill dhclient`, or `service netif restart DEVICE`",
	"desktop": "`ipconfig /release` and `ipconfig /renew`",
}

// renew goes on after the inside address or its leases have changed.
func (b *writer) renew(m *plan.Machine) Step {
	g := near(m)
	if g == nil || len(b.replaced(m)) > 0 || g.How == plan.Static || g.Segment.Port == nil ||
		g.Segment.Port.Leases == nil {
		return Step{}
	}
	s := Step{ID: "renew." + m.Name, Title: "Renew the lease, and open the page again",
		Why: fmt.Sprintf(
			"The session to its page breaks when the address inside changes: %s still has an address of before.",
			g.Machine.Name,
		),
		Do: []string{fmt.Sprintf("In %s: %s. Starting it again does the same.", g.Machine.Name,
			renewals[cmp.Or(g.Machine.Guest.System, "linux")])}}
	if len(g.Machine.Adapters) > 1 {
		s.Do = append(
			s.Do,
			fmt.Sprintf(
				"%s has %d adapters: name the one on %s (MAC address …%s), and leave the one that your own session comes in by alone.",
				g.Machine.Name,
				len(g.Machine.Adapters),
				g.Segment.Name,
				g.MAC.Tail(2),
			),
		)
	}
	for _, p := range b.p.Pages {
		if p.Appliance == m && !p.Factory && strings.HasPrefix(p.URL, "http") {
			s.Do = append(s.Do, "Open "+p.URL+" with scheme and port as shown.")
			break
		}
	}
	s.Do = append(s.Do, "If the page shows old values, reload it before you look for a fault.")
	s.See = fmt.Sprintf("%s has %s, and the page opens.", g.Machine.Name, g.Shown())
	s.Mistakes = []Mistake{{"reopen the old address", "nothing answers, and all is well"},
		{"the page's own port is edited while you are on it", "you are locked out: go on at the console"}}
	return s
}

// alone returns how an appliance is set up when nobody inside can open its page.
func (b *writer) alone(m *plan.Machine) Step {
	if near(m) != nil || m.Facts.InFiles() {
		return Step{}
	}
	return Step{ID: "alone." + m.Name, Title: "Set " + m.Name + " up without a client",
		Why: "No machine of the lab is on a segment where its page answers.",
		Do: []string{"Configure it at its console, or with its own program on its screen.",
			"Where it must be a page: put a machine on that segment for as long as it takes, and remove it again."},
		See: "The console shows the ports with their planned addresses.",
		Mistakes: []Mistake{{"the page is opened from the WAN side for once", "it stays open there, for everyone"},
			{"the helper stays there", "it is a guest that is not planned"}}}
}

// update brings an appliance up to date before guests depend on it.
func (b *writer) update(m *plan.Machine) Step {
	if len(m.WAN()) == 0 || !connected(m.WAN()) {
		return Step{}
	}
	return Step{ID: "update." + m.Name, Title: "Bring " + m.Name + " up to date",
		Do: []string{
			"Look for updates on its page or at its console, once its WAN works; take a " + b.w.Snapshot + " first.",
			"Optional: the hypervisor's guest agent, in the machine and in its settings.",
			"Add-ons: their repository first, then the package.",
		},
		See: "It reports that it is up to date, and its WAN address is unchanged.",
		Mistakes: []Mistake{
			{"a notice is closed unread", "the next update, or the end of the licence, is a surprise: note its date"},
			{"updated without a way back", "a failed update means a new installation"},
		}}
}

// cables returns which physical computer is connected where: those that no step has connected yet, or only one of them.
func (b *writer) cables(only *plan.Adapter) Step {
	t := &Table{Head: []string{"computer", "its adapter", "into", "address"}, Tick: true}
	for _, m := range b.p.Guests() {
		if !m.Physical || m.Off {
			continue
		}
		for _, a := range m.Adapters {
			if only != nil && a != only || only == nil && b.moved[a] {
				continue
			}
			into := "the switch at the host's adapter " + a.Segment.Wire.Uplink()
			if a.Segment.Tag != 0 {
				into += fmt.Sprintf(", in a socket with VLAN %d untagged", a.Segment.Tag)
			} else if n := a.Segment.Wire.Root().Lab.Native; n > 0 {
				into += fmt.Sprintf(", in a socket with VLAN %d untagged", n)
			}
			if a.Segment.Wire.Uplink() == "" {
				into = a.Segment.Called()
			}
			t.Rows = append(t.Rows, []string{m.Name, cmp.Or(a.Device(), fmt.Sprint(a.Number)), into, a.Shown()})
		}
	}
	if len(t.Rows) == 0 {
		return Step{}
	}
	return Step{ID: "cables", Title: "Connect the physical computers", Table: t,
		Do: []string{"Write down the computer's present settings first, to put them back later.",
			"A remote session breaks when its cable is moved: work at its console, or connect over another adapter."},
		See: "The link is up at both ends, and the address matches its row.",
		Mistakes: []Mistake{{"the cable is in a socket of the local network",
			"it has an address of the local network, and reaches outside with the appliance off"},
			{"its wireless is still on", "it has two default routes, and goes out by the wrong one"}}}
}

// coming returns what changes when a guest that is off now is switched on.
func (b *writer) coming() Step {
	t := &Table{Head: []string{"guest", "attach it to", "MAC address", "address", "serves"}, Tick: true}
	serves := false
	for _, m := range b.p.Guests() {
		for _, a := range m.Adapters {
			if !m.Off || a.Segment.Nowhere() {
				continue
			}
			what := ""
			if a.Segment.Lab.Leases == m.Name {
				what, serves = "DHCP on "+a.Segment.Name, true
			}
			t.Rows = append(t.Rows, []string{m.Name, b.attach(a), a.MAC.String(), a.Shown(), what})
		}
	}
	if len(t.Rows) == 0 {
		return Step{}
	}
	s := Step{ID: "coming", Title: "When the machines that are off are started", Table: t,
		Do:  []string{"Build it, start it, write `running: true` into the lab file, and rehearse again."},
		See: "`bastion check` no longer reports that it is off.",
		Mistakes: []Mistake{
			{
				"it comes up with an address of its own choice",
				"machines that were given its planned address do not find it",
			},
		}}
	if serves {
		s.Do = append(
			s.Do,
			"Then remove the static addresses from the guests one by one, restart each, and check that its lease is from there.",
			"Exactly one machine runs the DHCP server: the appliance's own stays disabled.",
		)
	}
	return s
}

// autostart has the machines start with the host, once all works.
func (b *writer) autostart() Step {
	t := &Table{Head: []string{"order", "machine", "with the host"}, Tick: true}
	any := false
	for i, m := range b.p.Order {
		with := "no"
		if m.Spec.Autostart {
			any, with = true, "yes"
		}
		t.Rows = append(t.Rows, []string{fmt.Sprint(i + 1), m.Name, with})
	}
	if !any {
		return Step{}
	}
	return Step{ID: "autostart", Title: "Let it start with the host", Table: t,
		Why: "During the build, a machine that starts automatically has only some of its adapters.",
		Do:  []string{"Set the start with the host now, appliances first, with a wait before their guests."},
		See: "After a restart of the host every guest has an address.",
		Mistakes: []Mistake{{"guests start before the appliance", "they have no address until they renew it"},
			{"it was set before the adapters were right", "a restart of the host puts a half-built appliance online"}}}
}

// trial returns what to do before an evaluation ends.
func (b *writer) trial() Step {
	s := Step{
		ID:    "trial",
		Title: "Before a trial ends",
		Table: &Table{Head: []string{"appliance", "from", "until", "days"}, Tick: true},
	}
	for _, m := range b.p.Running() {
		if e := m.Appliance.Image.Evaluation; e.Days > 0 {
			s.Table.Rows = append(
				s.Table.Rows,
				[]string{m.Name, e.From.Format("2006-01-02"), e.From.AddDate(0, 0, e.Days).Format("2006-01-02"),
					fmt.Sprint(e.Days)},
			)
		}
	}
	if len(s.Table.Rows) == 0 {
		return Step{}
	}
	s.Do = []string{"Take a " + b.w.Snapshot + " and save the configuration some days before.",
		"Read what happens at the end: some pass nothing any more, some restart, some only nag.",
		"To go on: a licence, or a new installation from this runbook with the saved configuration."}
	s.See = "A restore point from before the end, and a date in your calendar."
	s.Mistakes = []Mistake{{"the licence is accepted without its period being noted", "one morning nothing passes"},
		{"the clock of the machine is set back", "leases, certificates and logs have the wrong time"}}
	return s
}
