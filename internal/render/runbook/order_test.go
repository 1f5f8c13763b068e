package runbook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// follow is somebody who does the steps of a book in their order, and knows what each needs.
type follow struct {
	t    *testing.T
	p    *plan.Plan
	done map[string]bool
	at   map[string]int // adapters that were attached, and how often
}

func (f *follow) need(step, what string) {
	assert.True(f.t, f.done[what], "%s needs %s, which comes later or never", step, what)
}

// step does a step: what it needs must be there.
func (f *follow) step(s Step) {
	kind, of, _ := strings.Cut(s.ID, ".")
	m := f.p.Machine(of)
	switch kind {
	case "create":
		if sourceOf(m).imported() {
			f.need(s.ID, "boot."+of)
		}
	case "boot":
		if !sourceOf(m).imported() {
			f.need(s.ID, "create."+of)
		}
	case "adapters", "disconnect", "start":
		f.need(s.ID, "create."+of)
	case "which", "console", "files", "restart":
		f.need(s.ID, "start."+of)
	case "page":
		f.page(s.ID, m)
	case "settings", "nat", "rules", "leases", "renew", "backup":
		if m != nil && m.Appliance != nil && !m.Facts.InFiles() && near(m) != nil {
			f.need(s.ID, "page."+of)
		}
	case "guests", "helper", "cables":
		for _, row := range s.Table.Rows {
			f.at[row[0]]++
			f.done["guest "+row[0]] = true
		}
	case "try":
		on := f.p.Segment(strings.Split(of, ".")[0])
		if on == nil {
			return // from outside
		}
		for _, a := range on.Adapters {
			if a.Guest != nil && strings.Contains(s.Title, a.Machine.Name+" (") {
				f.need(s.ID, "guest "+a.Machine.Name)
			}
		}
	}
	f.done[s.ID] = true
}

// page needs a guest that is attached behind a port with a page, and that port connected.
func (f *follow) page(id string, m *plan.Machine) {
	g := near(m)
	if g == nil {
		return
	}
	f.need(id, "start."+m.Name)
	b := &writer{p: f.p}
	if len(b.replaced(m)) > 0 {
		return // it is opened on the network on which the successor is built
	}
	f.need(id, "guest "+g.Machine.Name)
	if facing(m, g).Later() {
		f.need(id, "connect."+m.Name)
	}
}

// Each step's needs are met by the steps before it, and every guest is attached once, whatever is connected later.
func TestAnOrderThatCanBeDone(t *testing.T) {
	names, err := examples.Labs.ReadDir(".")
	require.NoError(t, err)
	later := func(which lab.Role) func(string) string {
		return func(text string) string {
			if strings.Contains(text, "connect:") {
				return text
			}
			return strings.Replace(text, "role: "+string(which)+",", "role: "+string(which)+", connect: later,", 1)
		}
	}
	tried := 0
	for _, n := range names {
		for as, change := range map[string]func(string) string{"as it is": strings.Clone, "lan later": later(lab.LAN), "wan later": later(lab.WAN)} {
			text, err := examples.Labs.ReadFile(n.Name())
			require.NoError(t, err)
			l, err := lab.Read(n.Name(), []byte(change(string(text))))
			require.NoError(t, err)
			p, err := plan.Build(l)
			require.NoError(t, err)
			t.Run(n.Name()+", "+as, func(t *testing.T) {
				f := &follow{t, p, map[string]bool{}, map[string]int{}}
				for _, part := range Of(p, wording(t, "server")).Parts {
					for _, s := range part.Steps {
						f.step(s)
					}
				}
				for _, g := range p.Guests() {
					attached := 0
					for _, a := range g.Adapters {
						if !g.Off && !a.Segment.Nowhere() {
							attached++
						}
					}
					assert.Equal(t, attached, f.at[g.Name], "each adapter of %s is attached once", g.Name)
				}
			})
			tried++
		}
	}
	assert.Greater(t, tried, 30)
}

// Together the parts of all machines hold every step of the whole book, and each row that names a machine
// stands in that machine's part alone.
func TestForEachMachine(t *testing.T) {
	names, err := examples.Labs.ReadDir(".")
	require.NoError(t, err)
	for _, n := range names {
		text, err := examples.Labs.ReadFile(n.Name())
		require.NoError(t, err)
		l, err := lab.Read(n.Name(), text)
		require.NoError(t, err)
		p, err := plan.Build(l)
		require.NoError(t, err)
		words := wording(t, "server")
		held := map[string]bool{}
		for _, m := range p.Machines {
			for _, part := range For(p, words, m).Parts {
				for _, s := range part.Steps {
					held[s.ID] = true
					if s.Table == nil || s.Table.Head[0] != "guest" && s.Table.Head[0] != "computer" {
						continue
					}
					assert.NotEmpty(t, s.Table.Rows, "%s: %s of %s", n.Name(), s.ID, m.Name)
					for _, row := range s.Table.Rows {
						assert.Equal(t, m.Name, row[0], "%s: %s of %s", n.Name(), s.ID, m.Name)
					}
				}
			}
		}
		for _, part := range Of(p, words).Parts {
			for _, s := range part.Steps {
				assert.True(t, held[s.ID], "%s: %s is in no machine's part", n.Name(), s.ID)
			}
		}
	}
}
