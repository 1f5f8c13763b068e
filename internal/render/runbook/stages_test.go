package runbook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/profiles"
)

// kinds returns the example labs of each kind, with the profiles that they name.
func kinds(t *testing.T) map[string]*plan.Plan {
	out := map[string]*plan.Plan{}
	files, err := examples.Labs.ReadDir(".")
	require.NoError(t, err)
	for _, f := range files {
		name := strings.TrimSuffix(f.Name(), ".yaml")
		l, err := lab.Read(f.Name(), example(t, name))
		require.NoError(t, err)
		l.Profiles = map[string]*lab.Profile{}
		for _, a := range l.Appliances {
			kind := a.Profile
			if kind == "" {
				kind = profiles.Default
			}
			data, ok := profiles.Profile(kind)
			require.True(t, ok, kind)
			l.Profiles[a.Profile], err = lab.ReadProfile(kind, data)
			require.NoError(t, err)
		}
		p, err := plan.Build(l)
		require.NoError(t, err, name)
		out[name] = p
	}
	return out
}

// at returns the rehearsal of a lab as far as it is built at a stage.
func at(t *testing.T, p *plan.Plan, stage Stage) (*simulator.Lab, *plan.Plan) {
	if stage == Absent {
		l := p.Lab.Clone()
		for _, a := range l.Appliances {
			a.Running = false
		}
		var err error
		p, err = plan.Build(l)
		require.NoError(t, err)
	}
	r := simulator.New(p)
	_, err := r.Open(t.Context(), p)
	require.NoError(t, err)
	if stage == Inner {
		require.NoError(t, r.Set(t.Context(), claims.Unplugged))
	}
	return r, p
}

// What a runbook says must work at a stage, and must not, is what the rehearsal of the
// lab as far as it is built then sees.
func TestStagesHold(t *testing.T) {
	all := labs(t)
	delete(all, "leaky")
	for name, p := range kinds(t) {
		all[name] = p
	}
	delete(all, "saltmarsh-leaky")
	followed := map[Stage]int{}
	for name, p := range all {
		for _, part := range Of(p, wording(t, "server")).Parts {
			for _, promise := range append(part.NotYet, part.Now...) {
				r, then := at(t, p, promise.Stage)
				guest := then.Machine(promise.Guest)
				ask := claims.AskReach{From: claims.RefTo(guest.Adapters[0]), Service: lab.Service{Proto: lab.ICMP}}
				if home := claims.InsideAdapter(guest); home != nil {
					ask.From = claims.RefTo(home)
				}
				services := []lab.Service{
					{Proto: lab.ICMP},
					{Proto: lab.TCP, From: 443, To: 443},
					{Proto: lab.UDP, From: 7, To: 7},
				}
				if promise.To == Page {
					port := claims.InsideAdapter(guest).Segment.Port
					ask.To, services = claims.RefTo(
						port,
					), []lab.Service{
						{Proto: lab.TCP, From: port.Admin[0].Port, To: port.Admin[0].Port},
					}
				}
				answered := false
				for _, s := range services {
					ask.Service = s
					got, _ := claims.AskOne(t.Context(), r, ask).Got.(claims.GotReach)
					answered = answered || got.Answered
				}
				assert.Equal(
					t,
					promise.Answers,
					answered,
					"%s: %s: at stage %s "+promise.Text,
					name,
					part.Title,
					promise.Stage,
					promise.Guest,
				)
				followed[promise.Stage]++
			}
		}
	}
	for _, s := range []Stage{Absent, Inner, Whole} {
		assert.NotZero(t, followed[s], s)
	}
}

// Steps fit their lab: what is said of is there, and what is there is said of.
func TestStepsFit(t *testing.T) {
	for name, p := range kinds(t) {
		b := Of(p, wording(t, "server"))
		has := map[string]bool{}
		for _, s := range b.Steps() {
			has[s.ID] = true
			_, about, named := strings.Cut(s.ID, ".")
			about, _, _ = strings.Cut(about, ".")
			if named && about != "outside" && about != "no-bypass" && about != "line" && about != "bridge" {
				assert.True(
					t,
					p.Machine(about) != nil || p.Segment(about) != nil,
					"%s: %s speaks of nobody",
					name,
					s.ID,
				)
			}
			if s.Table != nil {
				assert.NotEmpty(t, s.Table.Rows, "%s: %s", name, s.ID)
				for _, r := range s.Table.Rows {
					assert.Len(t, r, len(s.Table.Head), "%s: %s", name, s.ID)
				}
			}
		}
		for _, m := range p.Appliances() {
			assert.Equal(t, !m.Off, has["create."+m.Name], "%s: %s", name, m.Name)
			assert.Equal(t, m.Off, has["swap."+m.Name], "%s: %s", name, m.Name)
			later, unused := false, false
			for _, a := range m.Adapters {
				later, unused = later || a.Later(), unused || a.Role == lab.Unused
			}
			if !m.Off {
				assert.Equal(t, later || unused, has["disconnect."+m.Name], "%s: %s", name, m.Name)
				assert.Equal(t, m.Transparent(), has["try.bridge."+m.Name], name)
				assert.Equal(t, m.Appliance.Kind == "one-armed", has["point."+m.Name], name)
				assert.Equal(t, len(m.WAN()) > 1, has["try.line."+m.Name], name)
				assert.Equal(t, m.Profile.InFiles(), has["files."+m.Name], name)
				assert.NotEqual(t, m.Profile.InFiles(), has["page."+m.Name], name)
			}
		}
		physical, sockets := false, false
		for _, m := range p.Machines {
			physical = physical || m.Physical
		}
		for _, w := range p.Wires {
			sockets = sockets || w.Uplink() != ""
		}
		assert.Equal(t, physical, has["cables"], name)
		assert.Equal(t, sockets, has["sockets"], name)
	}
}
