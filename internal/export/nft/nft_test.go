package nft

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netns"

	"openbastion/examples"
	"openbastion/internal/filter/ruleset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
)

func planned(t *testing.T, text string) *plan.Plan {
	t.Helper()
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	return p
}

func sample(t *testing.T) string {
	data, err := examples.Labs.ReadFile("saltmarsh.yaml")
	require.NoError(t, err)
	return string(data)
}

const manyRules = `bastion: 1
lab: many
segments:
  road: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  desks: {reach: isolated, subnet: 10.83.16.0/24}
  tills: {reach: isolated, subnet: 10.83.32.0/24}
  cells: {reach: isolated, subnet: 10.83.48.0/25}
appliances:
  gate:
    ports:
      - {role: wan, segment: road, address: 172.29.64.7/24, gateway: 172.29.64.1, drop-private: DROP}
      - {role: lan, segment: desks, admin: true}
      - {role: dmz, segment: tills}
      - {role: lan, name: cells-port, segment: cells}
    nat:
      publish: [{port: tcp/8443, to: ferry, at: tcp/443}, {port: udp/7, to: ferry}, {port: tcp/80, to: gull}]
      one-to-one: [{outside: 172.29.64.9, inside: owl}]
    rules:
      - refuse tcp/25 from any to any
      - deny udp/7 from heron to outside log
      - allow tcp/80-443,icmp from desks to tills,cells
      - allow tcp from ferry to heron
      - allow any from desks to outside
      - refuse any from cells to 10.83.16.0/24
      - deny tcp/80 from any to gull
      - allow udp from cells to any
      - allow icmp from any to owl
guests:
  heron: {segment: desks, static: 10.83.16.10/24}
  owl: {segment: desks, static: 10.83.16.11/24}
  ferry: {segment: tills, static: 10.83.32.10/24}
  gull: {segment: tills, static: 10.83.32.11/24}
  newt: {segment: cells, static: 10.83.48.10/25}
`

// What leads to a guest leads to the address that it has: the planned one, or, where a
// lease may be any, the one that is known at the time; without one nothing leads there.
func TestAddressesOfTheDay(t *testing.T) {
	p := planned(t, `bastion: 1
lab: x
segments:
  road: {reach: upstream, subnet: 172.29.64.0/24, gateway: 172.29.64.1}
  desks: {reach: isolated, subnet: 10.83.16.0/24}
appliances:
  gate:
    ports: [{role: wan, segment: road, address: 172.29.64.7/24}, {role: lan, segment: desks}]
    nat: {publish: [{port: tcp/80, to: heron}, {port: tcp/81, to: otter}], one-to-one: [{outside: 172.29.64.9, inside: newt}]}
guests:
  heron: desks
  otter: {segment: desks, static: 10.83.16.10/24}
  newt: desks
`)
	gate := p.Machine("gate")
	for _, c := range []struct {
		address       func(*plan.Adapter) netip.Addr
		with, without []string
	}{
		{ruleset.Planned, []string{"dnat ip to 10.83.16.10:81", "# tcp/80 cannot be published: heron has no fixed address"}, []string{"172.29.64.9"}},
		{func(a *plan.Adapter) netip.Addr { return netip.AddrFrom4([4]byte{10, 83, 16, 100 + a.MAC[5]}) },
			[]string{":80", ":81", "ip daddr 172.29.64.9 dnat ip to 10.83.16.101"}, []string{"cannot be published"}},
		{func(*plan.Adapter) netip.Addr { return netip.Addr{} }, []string{"otter has no fixed address"}, []string{"dnat ip to"}},
	} {
		text := string(ruleset.Of(gate, (*plan.Adapter).Linux, c.address).Text())
		for _, want := range c.with {
			assert.Contains(t, text, want)
		}
		for _, not := range c.without {
			assert.NotContains(t, text, not)
		}
	}
	settings := string(Settings(gate, (*plan.Adapter).Linux))
	for _, a := range gate.Adapters {
		assert.Contains(t, settings, "-net/ipv4/conf/"+a.Linux()+"/send_redirects = 0\n")
	}
}

// Every appliance's rules are taken by the packet filter's own check.
func TestAccepted(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("the packet filter's check needs root")
	}
	if _, err := exec.LookPath("nft"); err != nil {
		t.Skip("nft is not here to check")
	}
	text := sample(t)
	for _, text := range []string{
		text, strings.Replace(text, "\nsegments:", "\nipv6: true\nsegments:", 1), strings.Replace(text, "address: dhcp", "address: pppoe", 1),
		strings.Replace(manyRules, "DROP", "true", 1),
		"bastion: 1\nlab: clear\nsegments:\n  road: {reach: upstream}\n  behind: {reach: isolated}\nappliances:\n  gate:\n    kind: transparent\n    ports: [{role: wan, segment: road}, {role: lan, segment: behind}]\n    rules: [allow tcp/443 from behind to outside, refuse any from any to any]\nguests: {heron: behind}\n",
		"bastion: 1\nlab: two\nsegments:\n  road: {reach: upstream}\n  lane: {reach: upstream}\n  desks: {reach: isolated}\nappliances:\n  gate:\n    ports: [{role: wan, segment: road}, {role: wan, name: backup, segment: lane}, {role: lan, segment: desks}]\nguests: {heron: desks}\n",
	} {
		for _, f := range Files(planned(t, text), nil) {
			if !strings.HasSuffix(f.Name, "nftables.conf") {
				continue
			}
			if strings.Contains(string(f.Data), "table bridge") {
				probe := exec.Command("nft", "-c", "-f", "-")
				probe.Stdin = strings.NewReader("table bridge probe {\n chain c {\n ct state new\n }\n}\n")
				if probe.Run() != nil {
					t.Log(
						"this kernel does not track conversations on bridges: the transparent appliance's rules are not checked",
					)
					continue
				}
			}
			c := exec.Command("nft", "-c", "-f", "-")
			c.Stdin = strings.NewReader(string(f.Data))
			out, err := c.CombinedOutput()
			assert.NoError(t, err, "%s\n%s", out, f.Data)
		}
	}
}

// world is a lab built of network namespaces: one for the appliance, one for
// each guest, one for the outside.
type world struct {
	t      *testing.T
	prefix string
}

func (w *world) run(args ...string) {
	w.t.Helper()
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	require.NoError(w.t, err, "%v: %s", args, out)
}

func (w *world) space(name string) string { return w.prefix + name }

func (w *world) add(name string) {
	w.run("ip", "netns", "add", w.space(name))
	w.t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", w.space(name)).Run() })
	w.run("ip", "-n", w.space(name), "link", "set", "lo", "up")
}

// in runs fn inside a namespace.
func (w *world) in(name string, fn func()) {
	var done sync.WaitGroup
	done.Add(1)
	go func() {
		defer done.Done()
		runtime.LockOSThread() // never unlocked: the thread ends with the namespace it is in
		h, err := netns.GetFromName(w.space(name))
		if !assert.NoError(w.t, err) || !assert.NoError(w.t, netns.Set(h)) {
			return
		}
		defer h.Close()
		fn()
	}()
	done.Wait()
}

// serve answers by TCP and UDP on ports of a namespace.
func (w *world) serve(name, at string, tcp, udp []int) {
	w.in(name, func() {
		for _, port := range tcp {
			l, err := net.Listen("tcp", fmt.Sprintf("%s:%d", at, port))
			if !assert.NoError(w.t, err) {
				return
			}
			w.t.Cleanup(func() { l.Close() })
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					c.Close()
				}
			}()
		}
		for _, port := range udp {
			c, err := net.ListenPacket("udp", fmt.Sprintf("%s:%d", at, port))
			if !assert.NoError(w.t, err) {
				return
			}
			w.t.Cleanup(func() { c.Close() })
			go func() {
				b := make([]byte, 512)
				for {
					n, from, err := c.ReadFrom(b)
					if err != nil {
						return
					}
					_, _ = c.WriteTo(b[:n], from)
				}
			}()
		}
	})
}

// reaches tries one flow from a namespace.
func (w *world) reaches(name string, to netip.Addr, proto lab.Proto, port uint16, patience time.Duration) (ok bool) {
	w.in(name, func() {
		switch proto {
		case lab.ICMP:
			network, own, kind, answer := "ip4:icmp", "0.0.0.0", byte(8), byte(0)
			if to.Is6() {
				network, own, kind, answer = "ip6:ipv6-icmp", "::", 128, 129 // the kernel fills in the checksum
			}
			c, err := net.ListenPacket(network, own)
			if !assert.NoError(w.t, err) {
				return
			}
			defer c.Close()
			id := uint16(time.Now().UnixNano())
			m := []byte{kind, 0, 0, 0, byte(id >> 8), byte(id), 0, 1}
			sum := uint32(0)
			for i := 0; i < len(m); i += 2 {
				sum += uint32(binary.BigEndian.Uint16(m[i:]))
			}
			binary.BigEndian.PutUint16(m[2:], ^uint16(sum+sum>>16))
			_, _ = c.WriteTo(m, &net.IPAddr{IP: to.AsSlice()})
			_ = c.SetReadDeadline(time.Now().Add(patience))
			b := make([]byte, 512)
			for {
				n, _, err := c.ReadFrom(b)
				if err != nil {
					return
				}
				if n >= 8 && b[0] == answer && binary.BigEndian.Uint16(b[4:]) == id {
					ok = true
					return
				}
			}
		case lab.UDP:
			c, err := net.Dial("udp", netip.AddrPortFrom(to, port).String())
			if err != nil {
				return
			}
			defer c.Close()
			_, _ = c.Write([]byte("hello"))
			_ = c.SetReadDeadline(time.Now().Add(patience))
			n, err := c.Read(make([]byte, 512))
			ok = err == nil && n == 5
		default:
			d := net.Dialer{Timeout: patience}
			c, err := d.Dial("tcp", netip.AddrPortFrom(to, port).String())
			if err == nil {
				ok = true
				c.Close()
			}
		}
	})
	return ok
}

// The rules loaded into the kernel answer every flow of a table as the
// rehearsal does: between all guests, to the outside, to the appliance itself,
// from outside to what is published.
func TestKernelAgrees(t *testing.T) {
	if _, err := exec.LookPath("nft"); err != nil || os.Geteuid() != 0 {
		t.Skip("the packet filter needs root and nft")
	}
	probe := fmt.Sprintf("bn%d-probe", os.Getpid()%10000)
	if out, err := exec.Command("ip", "netns", "add", probe).CombinedOutput(); err != nil {
		t.Skipf("this machine makes no network namespaces: %s", out)
	}
	defer func() { _ = exec.Command("ip", "netns", "del", probe).Run() }()
	if out, err := exec.Command("ip", "netns", "exec", probe, "nft", "list", "ruleset").CombinedOutput(); err != nil {
		t.Skipf("no packet filter in a network namespace: %s", out)
	}
	untagged := strings.NewReplacer(
		"segment: causeway, address: dhcp",
		"segment: causeway, address: 172.29.64.7/24",
		"    within: reedbed\n    vlan: 48\n",
		"",
		", over: lan",
		"",
		"  heron: reedbed\n",
		"  heron: {segment: reedbed, static: 10.83.16.10/24}\n",
		"newt: tidepool",
		"newt: {segment: tidepool, static: 10.83.48.10/24}",
		"reserve: 10.83.16.20",
		"static: 10.83.16.20/24",
	).Replace(sample(t))
	for i, text := range []string{untagged, strings.Replace(manyRules, "DROP", "false", 1),
		strings.NewReplacer("DROP", "true", "\nsegments:", "\nipv6: true\nsegments:").Replace(manyRules)} {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			p := planned(t, text)
			w := &world{t, fmt.Sprintf("bn%d-", os.Getpid()%10000)}
			m := p.Appliances()[0]
			w.add(m.Name)
			w.add("outside")
			var wan *plan.Adapter
			for i, a := range m.Adapters {
				device := fmt.Sprintf("p%d", i)
				switchName := fmt.Sprintf("s%d", i)
				w.add(switchName) // a bridge in a namespace of its own
				w.run("ip", "-n", w.space(switchName), "link", "add", "name", "middle", "type", "bridge")
				w.run("ip", "-n", w.space(switchName), "link", "set", "middle", "up")
				plug := func(space, device, far string, address netip.Prefix, gateway netip.Addr) {
					w.run(
						"ip",
						"link",
						"add",
						"name",
						device,
						"netns",
						w.space(space),
						"type",
						"veth",
						"peer",
						"name",
						far,
						"netns",
						w.space(switchName),
					)
					w.run("ip", "-n", w.space(switchName), "link", "set", far, "master", "middle", "up")
					w.run("ip", "-n", w.space(space), "link", "set", device, "up")
					w.run("ip", "-n", w.space(space), "addr", "add", address.String(), "dev", device)
					if gateway.IsValid() {
						w.run("ip", "-n", w.space(space), "route", "add", "default", "via", gateway.String())
					}
				}
				six := func(space, device string, address netip.Prefix, gateway netip.Addr) {
					if !address.IsValid() {
						return
					}
					w.run("ip", "-n", w.space(space), "-6", "addr", "add", address.String(), "dev", device, "nodad")
					if gateway.IsValid() {
						w.run("ip", "-n", w.space(space), "-6", "route", "add", "default", "via", gateway.String())
					}
				}
				plug(m.Name, device, "gate", a.Address, a.Gateway)
				six(m.Name, device, a.Address6, netip.Addr{})
				if a.Role == lab.WAN {
					wan = a
					plug(
						"outside",
						"p0",
						"out",
						netip.PrefixFrom(a.Segment.Gateway, a.Segment.Subnet.Bits()),
						netip.Addr{},
					)
					w.run("ip", "-n", w.space("outside"), "addr", "add", "203.0.113.80/32", "dev", "lo")
					w.run(
						"ip",
						"-n",
						w.space("outside"),
						"route",
						"replace",
						a.Segment.Subnet.String(),
						"dev",
						"p0",
						"src",
						"203.0.113.80",
					)
					for _, o := range m.OneToOne {
						w.run("ip", "-n", w.space(m.Name), "addr", "add", o.Outside.String()+"/32", "dev", device)
					}
				}
				for k, g := range a.Segment.Adapters {
					if g.Guest != nil {
						w.add(g.Machine.Name)
						plug(g.Machine.Name, "p0", fmt.Sprintf("g%d", k), g.Address, g.Gateway)
						six(g.Machine.Name, "p0", g.Address6, a.Address6.Addr())
					}
				}
			}
			files := Files(p, func(a *plan.Adapter) string {
				for i := range m.Adapters {
					if m.Adapters[i] == a {
						return fmt.Sprintf("p%d", i)
					}
				}
				return ""
			})
			for _, line := range strings.Split(string(files[1].Data), "\n") {
				if line != "" && line[0] != '#' {
					w.run("ip", "netns", "exec", w.space(m.Name), "sysctl", "-qw", strings.ReplaceAll(line, " ", ""))
				}
			}
			load := exec.Command("ip", "netns", "exec", w.space(m.Name), "nft", "-f", "-")
			load.Stdin = strings.NewReader(string(files[0].Data))
			out, err := load.CombinedOutput()
			require.NoError(t, err, string(out))

			services := []lab.Service{
				{Proto: lab.ICMP},
				{Proto: lab.UDP, From: 7},
				{Proto: lab.UDP, From: 123},
				{Proto: lab.TCP, From: 25},
				{Proto: lab.TCP, From: 80},
				{Proto: lab.TCP, From: 443},
				{Proto: lab.TCP, From: 8443},
			}
			tcp, udp := []int{25, 80, 443, 8443}, []int{7, 123}
			w.serve("outside", "203.0.113.80", tcp, udp)
			w.serve(m.Name, "", []int{443}, []int{53})
			var probes []claims.AskReach
			for _, g := range p.Guests() {
				w.serve(g.Name, "", tcp, udp)
				for _, s := range services {
					from := g.Adapters[0]
					probes = append(probes, claims.AskReach{From: claims.RefTo(from), Service: s})
					for _, to := range p.Adapters {
						if to.Machine != g && to.Machine.Guest != nil && to.Address6.IsValid() {
							probes = append(
								probes,
								claims.AskReach{From: claims.RefTo(from), To: claims.RefTo(to), Service: s, IPv6: true},
							)
						}
						if to.Machine != g {
							probes = append(
								probes,
								claims.AskReach{From: claims.RefTo(from), To: claims.RefTo(to), Service: s},
							)
						}
					}
				}
			}
			for _, s := range services {
				probes = append(probes, claims.AskReach{To: claims.RefTo(wan), Service: s})
			}
			stage := simulator.New(p)
			_, err = stage.Open(t.Context(), p)
			require.NoError(t, err)
			var questions []claims.Question
			for i, q := range probes {
				questions = append(questions, claims.Question{ID: strconv.Itoa(i), When: claims.Running, Ask: q})
			}
			said := make([]claims.GotReach, len(probes))
			require.NoError(t, stage.Ask(t.Context(), questions, func(a claims.Answer) {
				i, err := strconv.Atoi(a.ID)
				require.NoError(t, err)
				said[i] = a.Got.(claims.GotReach)
			}))
			passed := 0
			var mu sync.Mutex
			var all sync.WaitGroup
			slots := make(chan struct{}, 32)
			for i, q := range probes {
				from, to := "outside", netip.MustParseAddr("203.0.113.80")
				source, _ := q.From.In(p)
				target, _ := q.To.In(p)
				if source != nil {
					from = source.Machine.Name
				}
				if target != nil {
					to = target.Address.Addr()
				}
				if q.IPv6 {
					to = target.Address6.Addr()
				}
				all.Add(1)
				slots <- struct{}{}
				go func() {
					defer func() { <-slots; all.Done() }()
					patience := 500 * time.Millisecond
					if said[i].Answered { // a busy machine may take its time
						patience = 8 * time.Second
					}
					real := w.reaches(from, to, q.Service.Proto, q.Service.From, patience)
					mu.Lock()
					defer mu.Unlock()
					if real {
						passed++
					}
					assert.Equal(
						t,
						said[i].Answered,
						real,
						"%s to %s by %s: the rehearsal saw %q",
						from,
						to,
						q.Service,
						said[i].Outcome,
					)
				}()
			}
			all.Wait()
			assert.Greater(t, passed, 10)
			t.Logf("%d flows, %d pass", len(probes), passed)
		})
	}
}
