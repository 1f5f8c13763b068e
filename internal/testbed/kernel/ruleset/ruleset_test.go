//go:build linux

package ruleset

import (
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
	"openbastion/internal/export/nft"
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
			if m.Appliance.Kind == "transparent" {
				continue
			}
			text := nft.Rules(m, (*plan.Adapter).Linux, nft.Planned)
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
				return Load(c, text)
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

// A text that is not of the known form is an error that names the line, and leaves
// nothing behind.
func TestUnknownWords(t *testing.T) {
	for _, rule := range []string{"frobnicate", "ip saddr", "ip saddr 10.0.0.300", "ip saddr ::1", "tcp dport 99999", "jump nowhere",
		"dnat ip to x", "iifname $port_x accept", "iifname averyveryverylongname accept", "meta l4proto gre accept", "tcp dport { 1, 2",
		"ct state odd accept", "fib daddr oif exists", "fib saddr oif exists", "reject with sorrow", "udp flags syn", "icmp type what", "meta mark frob"} {
		err := Load(&nftables.Conn{}, []byte("table inet t {\n\tchain c {\n\t\t"+rule+"\n\t}\n}\n"))
		assert.ErrorContains(t, err, "line 3", rule)
	}
	for _, text := range []string{"", "table ip t {\n}", "table inet t {\n\tchain c {\n\t\ttype filter hook nowhere priority 0; policy drop;\n\t}\n}"} {
		assert.Error(t, Load(&nftables.Conn{}, []byte(text)), text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("define p = \"eth0\"\ntable inet t {\n\tchain c {\n\t\t# 1: x\n\t\tiifname $p ip saddr { 10.0.0.0/8, 10.1.0.0/16 } counter drop\n\t}\n}")
	f.Fuzz(func(t *testing.T, data string) {
		table, err := parse(data)
		if err != nil {
			return
		}
		for _, c := range table.chains {
			for _, r := range c.rules {
				s := &statement{words: words(r.text), defs: table.defs, chains: map[string]bool{}, conn: &nftables.Conn{}, table: &nftables.Table{}}
				_ = s.all()
			}
		}
	})
}
