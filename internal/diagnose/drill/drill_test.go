package drill

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/diagnose"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/observe/listing"
)

func study(t testing.TB) *diagnose.Study {
	t.Helper()
	text, err := examples.Labs.ReadFile("saltmarsh.yaml")
	require.NoError(t, err)
	l, err := lab.Read("saltmarsh.yaml", text)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	s := diagnose.NewStudy(p)
	s.Run()
	return s
}

// A seed plants the same each time; what is planted shows, can be said, and is the
// likeliest for who takes every look; the fewest looks are enough for it.
func TestDrills(t *testing.T) {
	s := study(t)
	seen := map[string]bool{}
	for seed := range uint64(24) {
		for level := 1; level <= Levels; level++ {
			d, err := New(s, level, seed, nil)
			require.NoError(t, err)
			again, err := New(s, level, seed, nil)
			require.NoError(t, err)
			assert.Equal(t, d.Mistakes[0].ID(), again.Mistakes[0].ID())
			seen[d.Mistakes[0].ID()] = true
			assert.NotEmpty(t, d.Complaint(), "seed %d level %d", seed, level)
			assert.Len(t, d.Mistakes, 1+one(level == Levels))
			for _, m := range d.Mistakes {
				assert.True(t, d.Right(m))
				require.NotEmpty(t, d.Find(m.ID()))
				assert.Equal(t, m.ID(), d.Find(m.ID())[0].ID())
			}
			few := d.Fewest()
			assert.Equal(t, 100, d.Points(few, 0))
			assert.Greater(t, d.Points(few+1, 0), d.Points(few+9, 0))
			assert.Less(t, d.Points(few, 1), 100)
			assert.GreaterOrEqual(t, d.Points(1000, 50), 0)
		}
	}
	assert.Greater(t, len(seen), 20, "hardly anything else is planted")
	_, err := New(s, 4, 1, nil)
	assert.Error(t, err)
}

func one(is bool) int {
	if is {
		return 1
	}
	return 0
}

// What the bench shows is read back by what reads real machines, and leads to what was
// planted: in every drill of the first level, from listings, consoles and pings alone, the
// mistake is among those that explain most.
func TestBenchIsReadAsRealMachinesAre(t *testing.T) {
	s := study(t)
	found, tried := 0, 0
	for seed := range uint64(30) {
		d, err := New(s, 1, seed, nil)
		require.NoError(t, err)
		b := d.Bench()
		var all []diagnose.Seen
		for _, m := range s.Plan.Machines {
			var text strings.Builder
			ask := func(line, command string) {
				if r, err := b.Do(line); err == nil {
					text.WriteString(command + "\n" + r.Text + "\n")
				}
			}
			if m.Guest != nil {
				ask("listing of "+m.Name, "")
				ask("ping from "+m.Name+" to 203.0.113.80", "$ ping -c 1 203.0.113.80")
				ask("name on "+m.Name, "$ host buoy.example")
				ask("page on "+m.Name, "$ curl http://203.0.113.80/")
				for _, port := range m.Adapters[0].Segment.Adapters[:1] {
					ask(
						"ping from "+m.Name+" to "+port.Address.Addr().String(),
						"$ ping -c 1 "+port.Address.Addr().String(),
					)
				}
			} else {
				ask("console of "+m.Name, "")
			}
			all = append(all, s.FromPaste(m, text.String())...)
		}
		for _, x := range all {
			if len(x.Looks) == 1 && d.Vector[x.Looks[0]] != x.Value {
				// who pings what is out of reach does not see more than that nothing comes
				assert.Contains(
					t,
					[]string{"none, no-route", "none, astray"},
					x.Value.Word(s.Plan)+", "+d.Vector[x.Looks[0]].Word(s.Plan),
					"%s: %s",
					d.Mistakes[0].ID(),
					x.Text,
				)
			}
		}
		tried++
		causes := s.Causes(all)
		ok := slices.ContainsFunc(
			causes[:min(len(causes), 3)],
			func(c diagnose.Cause) bool { return slices.ContainsFunc(c.Mistakes, d.Right) },
		)
		if ok {
			found++
		} else {
			t.Logf("%s is not: before it %s", d.Mistakes[0].ID(), causes[0].Mistakes[0].ID())
		}
	}
	t.Logf("%d of %d are among the first three, from listings, consoles and pings alone", found, tried)
	assert.GreaterOrEqual(t, found*10, tried*8)
}

// Each family of systems shows its settings in a form that is read as its own.
func TestListingsOfSystems(t *testing.T) {
	s := study(t)
	d, err := New(s, 1, 1, nil)
	require.NoError(t, err)
	heron := d.Built.Plan.Machine("heron")
	for system, want := range map[string]string{"linux": "inet 10.83.16.", "bsd": "netmask 255.255.255.0", "desktop": "Subnet Mask"} {
		s.Plan.Machine("heron").Guest.System = system
		r, err := d.Bench().Do("listing of heron")
		require.NoError(t, err)
		if d.Built.Plan.Same(diagnose.Home(heron)) != nil && strings.Contains(r.Text, "10.83.16.") {
			assert.Contains(t, r.Text, want, system)
		}
		l := listing.Read(r.Text, "heron")
		assert.False(t, l.Empty(), system)
	}
	s.Plan.Machine("heron").Guest.System = ""
}

func FuzzBench(f *testing.F) {
	for _, line := range []string{"listing of heron", "ping from heron to otter", "page on heron from sluice", "published tcp/8443", "rules of sluice", "unplug"} {
		f.Add(line)
	}
	d, err := New(study(f), 2, 7, nil)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, line string) {
		r, err := d.Bench().Do(line)
		if err == nil {
			require.NotEmpty(t, r.Text)
			require.Positive(t, r.Looks)
		}
	})
}
