//go:build linux

package drive

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"

	"openbastion/examples"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/netsim/dhcp"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/netsim/probemsg"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

// realGuest is a stage on which one guest is a network namespace with a real
// stack and real programs, and everything else is the rehearsal, behind a real
// adapter. It asks the guest what a person would type, and the others nothing.
type realGuest struct {
	t      *testing.T
	plan   *plan.Plan
	guest  *plan.Adapter
	lab    *simulator.Live
	drive  *Drive
	script string // for the lease client
}

func (s *realGuest) Open(context.Context, *plan.Plan) (claims.Facts, error) {
	facts := s.lab.Facts()
	facts.Name = "real guest"
	facts.Asks = []claims.AskKind{"address", "lease", "neighbor", "name", "hop", "reach"}
	return facts, nil
}

func (s *realGuest) Set(_ context.Context, c claims.Condition) error {
	if c != claims.Running {
		return fmt.Errorf("nobody is there to pull the cable")
	}
	return nil
}

func (s *realGuest) Close(context.Context) error { return nil }

// sh runs a program in the guest, which is the namespace of this thread.
func (s *realGuest) sh(name string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
	return string(out), err
}

func (s *realGuest) Ask(_ context.Context, questions []claims.Question, tell func(claims.Answer)) error {
	ref := claims.RefTo(s.guest)
	leased := map[string]string{}
	for _, q := range questions {
		a := claims.Answer{ID: q.ID, Missing: "only the real guest is asked"}
		var text string
		switch w := q.Ask.(type) {
		case claims.AskAddress: // of the appliance's WAN: the simulation knows it
			s.drive.Do(s.t.Context(), func(time.Duration) { a = claims.AskOne(s.t.Context(), s.lab, w) })
			a.ID = q.ID
		case claims.AskLease:
			if w.At == ref {
				text, _ = s.sh("udhcpc", "-i", "eth0", "-f", "-n", "-q", "-t", "8", "-T", "1", "-s", s.script)
				leased = fields(text)
				_, _ = s.sh("ping", "-c", "1", "-W", "2", leased["serverid"])
				near, _ := s.sh("ip", "neigh", "show", leased["serverid"])
				if m := hardware.FindStringSubmatch(near); m != nil {
					leased["servermac"] = m[1]
				}
				a = claims.Answer{ID: q.ID, Got: lent(leased)}
			}
		case claims.AskNeighbor:
			if w.At == ref {
				_, _ = s.sh("ping", "-c", "1", "-W", "2", leased["router"])
				text, _ = s.sh("ip", "neigh", "show", leased["router"])
				got := claims.GotNeighbor{Outcome: outcome.Of(outcome.NoGateway)}
				if hop, err := netip.ParseAddr(leased["router"]); err == nil {
					got = claims.GotNeighbor{Hop: hop}
					if m := hardware.FindStringSubmatch(text); m != nil {
						one, _ := mac.Parse(m[1])
						got.Hardware = []mac.Address{one}
					}
				}
				a = claims.Answer{ID: q.ID, Got: got}
			}
		case claims.AskName:
			if w.At == ref {
				a = claims.Answer{ID: q.ID, Got: s.resolve(leased["dns"], &text)}
			}
		case claims.AskHop:
			if w.At == ref {
				text, _ = s.sh("ping", "-c", "1", "-W", "3", "-t", "1", s.witness())
				got := claims.GotHop{Outcome: outcome.Fail(strings.TrimSpace(text))}
				if m := regexp.MustCompile(`From ([0-9.]+)`).FindStringSubmatch(text); m != nil {
					got.Router, _ = netip.ParseAddr(m[1])
				}
				a = claims.Answer{ID: q.ID, Got: got}
			}
		case claims.AskReach:
			if to, _ := w.To.In(s.plan); w.From == ref && !w.IPv6 && (to == nil || to.Address.IsValid()) {
				a = claims.Answer{ID: q.ID, Got: s.reach(to, w.Service, &text)}
			}
		}
		if a.Got != nil && len(a.Evidence) == 0 {
			a.Evidence = []claims.Evidence{{Reading: "static the guest", At: time.Now(), Text: strings.TrimSpace(text)}}
		}
		tell(a)
	}
	return nil
}

func (s *realGuest) witness() string { return s.lab.Facts().Witness.Address.String() }

func (s *realGuest) resolve(resolver string, text *string) claims.GotName {
	got := claims.GotName{Outcome: outcome.Of(outcome.NoServer)}
	if at, err := netip.ParseAddr(resolver); err == nil {
		*text, _ = s.sh("dig", "+time=3", "+tries=2", "@"+resolver, s.lab.Facts().Witness.Name)
		got = claims.GotName{Resolver: at, Answered: strings.Contains(*text, "status: NOERROR")}
		if m := regexp.MustCompile(`IN\s+A\s+([0-9.]+)`).FindStringSubmatch(*text); m != nil {
			a, _ := netip.ParseAddr(m[1])
			got.Addresses = []netip.Addr{a}
		}
		whole, _ := s.sh("dig", "+tcp", "+short", "+time=3", "+tries=1", "@"+resolver, s.lab.Facts().Witness.Name)
		assert.Equal(s.t, got.Answered, strings.TrimSpace(whole) == s.witness(), "by TCP as by UDP: %s", whole)
	}
	return got
}

func (s *realGuest) reach(to *plan.Adapter, service lab.Service, text *string) claims.GotReach {
	address := s.witness()
	if to != nil {
		address = to.Address.Addr().String()
	}
	var got claims.GotReach
	switch service.Proto {
	case lab.ICMP:
		*text, _ = s.sh("ping", "-c", "2", "-W", "2", address)
		got.Answered = strings.Contains(*text, "bytes from")
		if to == nil && got.Answered {
			s.drive.Do(s.t.Context(), func(time.Duration) { got.Source = s.lab.Pinged() })
		}
	case lab.TCP:
		out, err := s.sh("curl", "-sS", "-m", "5", fmt.Sprintf("http://%s:%d/", address, service.From))
		*text, got.Answered = out, err == nil
		got.Who, got.Source = probemsg.Introduced([]byte(out))
	default:
		out, err := udp(fmt.Sprintf("%s:%d", address, service.From), probemsg.Question(service.From))
		*text, got.Answered = string(out), err == nil
		got.Who, got.Source = probemsg.Introduced(out)
	}
	if got.Outcome = outcome.Fail(strings.TrimSpace(*text)); !got.Answered && got.Outcome.Detail == "" {
		got.Outcome = outcome.Of(outcome.NoAnswer)
	}
	return got
}

// hardware finds the hardware address in a list of neighbors.
var hardware = regexp.MustCompile(`lladdr ([0-9a-f:]+)`)

func udp(address string, question []byte) ([]byte, error) {
	c, err := net.DialTimeout("udp", address, time.Second)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	buffer := make([]byte, 2048)
	for range 3 { // a datagram may get lost
		if _, err = c.Write(question); err != nil {
			return nil, err
		}
		_ = c.SetReadDeadline(time.Now().Add(time.Second))
		n, e := c.Read(buffer)
		if err = e; err == nil {
			return buffer[:n], nil
		}
	}
	return nil, err
}

// fields reads the lines NAME=VALUE that the lease client's script wrote.
func fields(text string) map[string]string {
	out := map[string]string{}
	for _, l := range strings.Split(text, "\n") {
		if name, value, ok := strings.Cut(l, "="); ok {
			out[name] = value
		}
	}
	return out
}

func lent(f map[string]string) claims.GotLease {
	address, err := netip.ParsePrefix(f["ip"] + "/" + f["mask"])
	if err != nil {
		return claims.GotLease{}
	}
	b := &dhcp.Binding{Address: address}
	b.Router, _ = netip.ParseAddr(f["router"])
	b.Server, _ = netip.ParseAddr(f["serverid"])
	b.ServerMAC, _ = mac.Parse(f["servermac"])
	if d, err := netip.ParseAddr(f["dns"]); err == nil {
		b.DNS = []netip.Addr{d}
	}
	return claims.GotLease{Lease: b}
}

// script takes a lease over as a plain system does, and says what it was.
const script = `#!/bin/sh
case $1 in
deconfig) ip addr flush dev eth0; ip link set eth0 up ;;
bound|renew)
	ip addr flush dev eth0
	ip addr add $ip/$mask dev eth0
	[ -z "$router" ] || ip route replace default via $router
	for v in ip mask router dns serverid lease; do eval echo $v=\\$$v; done ;;
esac
`

// space makes a network namespace for this test's thread, with a veth pair: eth0
// is the guest's, far the lab's.
func space(t *testing.T, hardware mac.Address) {
	t.Helper()
	runtime.LockOSThread() // and never unlocked: the thread ends with the test
	was, err := netns.Get()
	require.NoError(t, err)
	now, err := netns.New()
	if err != nil {
		t.Skipf("no network namespace here: %v", err)
	}
	t.Cleanup(func() { _ = netns.Set(was); _ = now.Close(); _ = was.Close() })
	require.NoError(t, netlink.LinkAdd(&netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: "far"}, PeerName: "eth0",
		PeerHardwareAddr: hardware[:]}))
	for _, name := range []string{"lo", "far", "eth0"} {
		_ = os.WriteFile("/proc/sys/net/ipv6/conf/"+name+"/disable_ipv6", []byte("1"), 0o644)
		link, err := netlink.LinkByName(name)
		require.NoError(t, err)
		require.NoError(t, netlink.LinkSetUp(link))
	}
}

// A real guest agrees with the rehearsal about every claim that it can speak
// of, on a sound lab and on a leaky one.
func TestRealGuest(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root for network namespaces")
	}
	for _, tool := range []string{"udhcpc", "ping", "dig", "curl", "ip"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not here", tool)
		}
	}
	for name, least := range map[string]int{"saltmarsh.yaml": 6, "saltmarsh-leaky.yaml": 3} {
		t.Run(name, func(t *testing.T) {
			data, err := examples.Labs.ReadFile(name)
			require.NoError(t, err)
			l, err := lab.Read(name, data)
			require.NoError(t, err)
			p, err := plan.Build(l)
			require.NoError(t, err)
			rehearsed := map[string]claims.Verdict{}
			for _, r := range simulator.New(p).Outcome().Claims {
				rehearsed[r.ID] = r.Verdict
			}
			s := &realGuest{
				t:      t,
				plan:   p,
				guest:  p.Machine("heron").Adapters[0],
				lab:    simulator.NewLive(p, func(m *plan.Machine) bool { return m.Name == "heron" }),
				script: filepath.Join(t.TempDir(), "lease.sh"),
			}
			require.NoError(t, os.WriteFile(s.script, []byte(strings.ReplaceAll(script, `\\`, `\`)), 0o755))
			space(t, s.guest.MAC)
			far, err := Open("far", s.guest.Number)
			require.NoError(t, err)
			defer far.Close()
			s.lab.Start()
			s.drive, err = New(s.lab, far)
			require.NoError(t, err)
			ctx, cancel := context.WithCancel(t.Context())
			ended := make(chan error)
			go func() { ended <- s.drive.Run(ctx) }()
			doc, _, err := claims.Run(t.Context(), p, s)
			require.NoError(t, err)
			cancel()
			require.NoError(t, <-ended)
			spoken := 0
			for _, r := range doc.Claims {
				if r.Verdict == claims.Unknown {
					continue
				}
				spoken++
				assert.Equal(t, rehearsed[r.ID], r.Verdict, "%s: %s", r.ID, r.Observed)
			}
			assert.GreaterOrEqual(t, spoken, least, "claims that the real guest speaks of")
		})
	}
}
