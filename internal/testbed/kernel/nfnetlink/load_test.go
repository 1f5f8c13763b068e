//go:build linux

package nfnetlink

import (
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"github.com/google/nftables"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"openbastion/examples"
	"openbastion/internal/filter/ruleset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// inSpace calls a function in a network namespace of its own.
func inSpace(t *testing.T, f func()) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
			t.Errorf("no network namespace: %v", err)
			return
		}
		f()
	}()
	<-done
}

var comments = regexp.MustCompile(` comment "[^"]*"`)

// What is loaded here is what the kernel's own tool makes of the same text, rule by
// rule, for every appliance of the example labs.
func TestLoadsWhatTheToolLoads(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	if _, err := exec.LookPath("nft"); err != nil {
		t.Skip("nft is not here")
	}
	names, err := examples.Labs.ReadDir(".")
	require.NoError(t, err)
	loaded := 0
	for _, e := range names {
		data, err := examples.Labs.ReadFile(e.Name())
		require.NoError(t, err)
		l, err := lab.Read(e.Name(), data)
		if err != nil {
			continue
		}
		p, err := plan.Build(l)
		require.NoError(t, err, e.Name())
		for _, m := range p.Appliances() {
			if m.Transparent() {
				continue
			}
			table := ruleset.Of(m, (*plan.Adapter).Linux, ruleset.Planned)
			text := table.Text()
			if strings.Contains(string(text), "maxseg") {
				continue // sessions stay simulated
			}
			list := func(load func() error) (out string) {
				inSpace(t, func() {
					assert.NoError(t, load(), "%s of %s", m.Name, e.Name())
					b, err := exec.Command("nft", "list", "ruleset").CombinedOutput()
					assert.NoError(t, err, string(b))
					out = string(b)
				})
				return out
			}
			ours := list(func() error {
				c, err := Open(0)
				require.NoError(t, err)
				return Load(c, table)
			})
			theirs := list(func() error {
				file := filepath.Join(t.TempDir(), "rules")
				require.NoError(t, os.WriteFile(file, text, 0o600))
				out, err := exec.Command("nft", "-f", file).CombinedOutput()
				if err != nil {
					t.Log(string(out))
				}
				return err
			})
			ours = comments.ReplaceAllString(ours, "")
			ours = strings.ReplaceAll(ours, " group 7", "")
			a, b := eachDevice(strings.Split(theirs, "\n")), strings.Split(ours, "\n")
			if assert.Len(t, b, len(a), "%s of %s", m.Name, e.Name()) {
				for i := range a {
					assert.Equal(t, a[i], b[i], "%s of %s", m.Name, e.Name())
				}
			}
			loaded++
		}
	}
	assert.Greater(t, loaded, 5)
}

// eachDevice writes a rule for several devices as one for each.
func eachDevice(lines []string) (out []string) {
	for _, l := range lines {
		m := devices.FindStringSubmatch(l)
		if m == nil {
			out = append(out, l)
			continue
		}
		for _, name := range strings.Split(m[2], ", ") {
			out = append(out, eachDevice([]string{m[1] + name + m[3]})...)
		}
	}
	return out
}

var devices = regexp.MustCompile(`^(.*?[io]ifname )\{ ([^}]*) \}(.*)$`)

// What the kernel cannot be told is an error, and leaves nothing behind.
func TestWhatCannotBeLoaded(t *testing.T) {
	for _, m := range []ruleset.Match{ruleset.In{"nowhere"}, ruleset.In{"long"}, ruleset.Address{}, ruleset.State{"odd"}, ruleset.TCPSYN{},
		ruleset.Proto{"gre"}, ruleset.Ports{Proto: lab.ICMP}, ruleset.Message{Types: []string{"odd"}}, ruleset.EtherType{Name: "arp"}, ruleset.Address{
			Prefixes: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("fd00::/8")}}} {
		err := Load(
			&nftables.Conn{},
			&ruleset.Table{
				Family: ruleset.Inet,
				Name:   "t",
				Ports:  []ruleset.Port{{Name: "long", Device: "averyveryverylongname"}},
				Chains: []*ruleset.Chain{
					{
						Name: "c",
						Rules: []ruleset.Rule{
							{Matches: []ruleset.Match{m}, Actions: []ruleset.Action{ruleset.Accept{}}},
						},
					},
				},
			},
		)
		assert.ErrorContains(t, err, "chain c", "%#v", m)
	}
	assert.Error(t, Load(&nftables.Conn{}, &ruleset.Table{Family: ruleset.Bridge, Name: "t"}))
}
