package runbook

import (
	"bytes"
	"html"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/profiles"
)

func planned(t *testing.T, text []byte) *plan.Plan {
	t.Helper()
	l, err := lab.Read("lab.yaml", text)
	require.NoError(t, err)
	data, err := profiles.Files.ReadFile(profiles.Default + ".yaml")
	require.NoError(t, err)
	profile, err := lab.ReadProfile("reference", data)
	require.NoError(t, err)
	l.Profiles = map[string]*lab.Profile{"": profile}
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p
}

func example(t *testing.T, name string) []byte {
	text, err := examples.Labs.ReadFile(name + ".yaml")
	require.NoError(t, err)
	return text
}

func wording(t *testing.T, name string) *lab.Wording {
	data, err := profiles.Files.ReadFile("wordings/" + name + ".yaml")
	require.NoError(t, err)
	w, err := lab.ReadWording(name, data)
	require.NoError(t, err)
	return w
}

func labs(t *testing.T) map[string]*plan.Plan {
	out := map[string]*plan.Plan{
		"saltmarsh": planned(t, example(t, "saltmarsh")),
		"leaky":     planned(t, example(t, "saltmarsh-leaky")),
	}
	out["six"] = planned(
		t,
		bytes.Replace(example(t, "saltmarsh"), []byte("\nsegments:"), []byte("\nipv6: true\nsegments:"), 1),
	)
	for _, s := range draft.Shapes {
		o := draft.Options{}
		o.Lab, o.Shape, o.Guests = "bench", s.Name, 2
		text, err := draft.Write(o)
		require.NoError(t, err)
		out[s.Name] = planned(t, text)
	}
	return out
}

// A runbook names every adapter, address, answer, rule and translation of its
// plan, in every form and in either hypervisor's words.
func TestNamesEverything(t *testing.T) {
	for name, p := range labs(t) {
		for _, words := range []string{"desktop", "server", "kernel"} {
			b := Of(p, wording(t, words))
			page, err := b.HTML(nil)
			require.NoError(t, err)
			text := strings.Join(strings.Fields(string(b.Text(80))), " ")
			for form, out := range map[string]string{"markdown": strings.ReplaceAll(string(b.Markdown()), "&lt;", "<"),
				"html": html.UnescapeString(string(page)), "text": text} {
				where := name + " as " + form
				for _, a := range p.Adapters {
					if a.Machine.Off && a.Machine.Appliance != nil {
						continue // it is there already, and nothing of it is set up
					}
					if a.Machine.Physical { // it has the address that it was made with
						continue
					}
					assert.Contains(t, out, a.MAC.Tail(2), where)
					if a.Over == nil {
						assert.Contains(t, out, a.MAC.String(), where)
					}
					assert.Contains(t, out, a.Shown(), where)
				}
				for _, a := range p.Answers {
					if a.Appliance.Appliance.Profile == "" && a.Stage == "console" && a.Port != nil {
						continue // one table has them all
					}
					assert.Contains(t, out, a.Question, where)
					assert.Contains(t, out, strings.Join(strings.Fields(a.Answer), " "), where)
				}
				for _, m := range p.Appliances() {
					for _, r := range m.Rules {
						assert.Contains(t, out, r.Text, where)
					}
				}
				for _, pg := range p.Pages {
					assert.Contains(t, out, pg.URL, where)
				}
				if form != "html" { // which has braces in style and script
					assert.NotContains(t, out, "{", where+": a key is not filled in")
				}
			}
			seen, told := map[string]bool{}, map[Mistake]bool{}
			for _, s := range b.Steps() {
				assert.False(t, seen[s.ID], s.ID)
				seen[s.ID] = true
				assert.NotEmpty(t, s.See, s.ID)
				for _, m := range s.Mistakes {
					assert.False(t, told[m], "%s: %s is said once", s.ID, m.What)
					told[m] = true
				}
			}
			for _, line := range strings.Split(string(b.Text(72)), "\n") {
				assert.LessOrEqual(t, len([]rune(line)), 90, line)
			}
			if _, err := exec.LookPath("tidy"); err == nil && words == "desktop" {
				file := filepath.Join(t.TempDir(), "a.html")
				require.NoError(t, os.WriteFile(file, page, 0o600))
				out, _ := exec.Command("tidy", "-q", "-e", file).CombinedOutput()
				assert.NotContains(t, string(out), "Error:")
			}
		}
	}
}

// What the tests of a runbook promise is what the rehearsal sees.
func TestPromisesHold(t *testing.T) {
	all := labs(t)
	for name, p := range kinds(t) {
		all[name] = p
	}
	for _, leaky := range []string{"leaky", "saltmarsh-leaky"} {
		delete(all, leaky) // there guests do not see what was planned: that is its point
	}
	all["shut"] = planned(t, bytes.Replace(example(t, "saltmarsh"), []byte("      - deny any from tidepool to any\n"),
		[]byte("      - deny udp/53 from boathouse to any\n      - deny icmp from reedbed to 10.83.16.1\n"), 1))
	for name, p := range all {
		stage := simulator.New(p)
		_, err := stage.Open(t.Context(), p)
		require.NoError(t, err)
		for _, s := range Of(p, wording(t, "desktop")).Steps() {
			if !strings.HasPrefix(s.ID, "try.") || s.Machine == "" {
				continue
			}
			from := claims.InsideAdapter(p.Machine(s.Machine))
			for _, row := range s.Table.Rows {
				reach := claims.AskReach{From: claims.RefTo(from), Service: lab.Service{Proto: lab.ICMP}}
				var ask claims.Asking
				nothing := strings.HasPrefix(row[1], "nothing")
				switch at := strings.TrimPrefix(row[0], "ping -c 3 "); {
				case at == row[0] && strings.HasPrefix(row[0], "getent"):
					ask = claims.AskName{At: claims.RefTo(from)}
				case at == row[0] && strings.HasPrefix(row[0], "curl"):
					reach.Service = lab.Service{Proto: lab.TCP, From: 80, To: 80}
					if strings.Contains(row[0], "https") {
						reach.Service = lab.Service{Proto: lab.TCP, From: 443, To: 443}
					}
				case at == row[0]:
					continue
				default:
					if a, err := netip.ParseAddr(at); err == nil && from.Segment.Port != nil &&
						from.Segment.Port.Address.IsValid() &&
						a == from.Segment.Port.Address.Addr() {
						reach.To = claims.RefTo(from.Segment.Port)
					} else if i := slices.IndexFunc(p.Adapters, func(x *plan.Adapter) bool {
						return x.Guest != nil && x.Address.IsValid() && x.Address.Addr() == a
					}); err == nil && i >= 0 {
						reach.To = claims.RefTo(p.Adapters[i])
					} // else something outside, for which the witness stands
				}
				if ask == nil {
					ask = reach
				}
				var answered bool
				var saw string
				switch got := claims.AskOne(t.Context(), stage, ask).Got.(type) {
				case claims.GotReach:
					answered, saw = got.Answered, got.Outcome.String()
				case claims.GotName:
					answered, saw = got.Answered, got.Outcome.String()
				}
				assert.Equal(
					t,
					!nothing,
					answered,
					"%s: %s in %s: %q, and the rehearsal saw %q",
					name,
					row[0],
					s.Machine,
					row[1],
					saw,
				)
			}
		}
	}
}

func TestSince(t *testing.T) {
	text := string(example(t, "saltmarsh"))
	words := wording(t, "desktop")
	ids := func(b Book) []string {
		var out []string
		for _, s := range b.Steps() {
			out = append(out, s.ID)
		}
		return out
	}
	old := Of(planned(t, []byte(text)), words)
	same, gone := Since(old, old)
	assert.Empty(t, same.Parts)
	assert.Empty(t, gone)
	now := Of(planned(t, []byte(strings.NewReplacer("reserve: 10.83.16.20", "reserve: 10.83.16.21",
		"      - refuse tcp/25 from reedbed to outside\n", "").Replace(text))), words)
	changed, gone := Since(old, now)
	assert.Empty(t, gone)
	assert.Equal(t, []string{"rules.sluice", "leases.sluice", "guests.reedbed"}, ids(changed))
	out := string(changed.Text(80))
	assert.Contains(t, out, "[ ] remove\n        no.: 2")
	assert.Contains(t, out, "10.83.16.21")
	_, gone = Since(old, Of(planned(t, []byte(strings.Replace(text, "  newt: tidepool\n", "",
		1)[:strings.Index(text, "expect:")-len("  newt: tidepool\n")])), words))
	assert.Equal(
		t,
		[]string{"Move the guests of tidepool there, one by one", "In newt (tidepool), from the bottom up"},
		gone,
	)
}

func TestWalk(t *testing.T) {
	b := Of(planned(t, example(t, "saltmarsh")), wording(t, "desktop"))
	steps := b.Steps()
	w := &Walk{}
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	assert.Equal(t, 0, w.Next(steps))
	w.Add(Entry{Step: steps[0].ID, Outcome: Skipped, At: at, Note: "had | it"})
	w.Add(Entry{Step: steps[1].ID, Outcome: Done, At: at})
	w.Add(Entry{Step: steps[0].ID, Outcome: Proved, At: at, Seen: []string{"eth0 is wan"}})
	assert.Equal(t, 2, w.Next(steps))
	record := string(w.Record(b))
	assert.Contains(t, record, "1 steps reported done, 1 seen done")
	assert.Contains(t, record, "| 1.1 "+steps[0].Title+" | seen | 2026-11-23T09:00:00Z | eth0 is wan |")
	assert.Contains(t, record, "| 1.3 "+steps[2].Title+" | open | | |")
}

func FuzzReadWalk(f *testing.F) {
	f.Add(
		[]byte(
			`{"schema":"openbastion.walk/1","lab":"saltmarsh","entries":[{"step":"images","outcome":"done","seen":["x"]}]}`,
		),
	)
	f.Fuzz(func(t *testing.T, data []byte) {
		w, err := ReadWalk(data, "saltmarsh")
		if err != nil {
			return
		}
		w.Next([]Step{{ID: "images"}, {ID: "backup"}})
		w.Add(Entry{Step: "images", Outcome: Done})
		w.Record(Book{Lab: "saltmarsh"})
	})
}
