package drill

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/netsim/outcome"
	"openbastion/internal/verify/claims"
)

// systemOf returns the family of a guest's system.
func systemOf(m *plan.Machine) string {
	if m.Guest == nil {
		return "linux"
	}
	return cmp.Or(m.Guest.System, "linux")
}

// deviceOf returns what a machine's system calls an adapter.
func deviceOf(a *plan.Adapter) string {
	if len(a.Devices) > 0 {
		return a.Devices[0]
	}
	return fmt.Sprintf("eth%d", a.Number-1)
}

// listing is what a guest shows of its settings, as its system writes it.
func (b *Bench) listing(m *plan.Machine, home *plan.Adapter) string {
	if b.off(m) {
		return "Nothing: " + m.Name + " is dark."
	}
	var out strings.Builder
	system := systemOf(m)
	for _, a := range home.Machine.Adapters {
		h := b.lab.Shown(a)
		address := h.Address
		up := a.Plugged && !a.Segment.Nowhere()
		if !address.IsValid() && up && a.How != plan.Static {
			address = selfGiven(a.MAC)
		}
		switch system {
		case "bsd":
			bsdInterface(&out, a, address, up)
		case "desktop":
			desktopAdapter(&out, a, address, h.Gateway, h.DNS, up)
		default:
			linuxInterface(&out, a, address, up)
		}
	}
	h := b.lab.Shown(home)
	switch system {
	case "bsd":
		if h.Gateway.IsValid() {
			fmt.Fprintf(&out, "default            %-18s UGS         %s\n", h.Gateway, deviceOf(home))
		}
		resolvConf(&out, h.DNS)
	case "desktop":
	default:
		if h.Gateway.IsValid() {
			fmt.Fprintf(&out, "default via %s dev %s\n", h.Gateway, deviceOf(home))
		}
		if h.Address.IsValid() {
			fmt.Fprintf(&out, "%s dev %s scope link src %s\n", h.Address.Masked(), deviceOf(home), h.Address.Addr())
		}
		resolvConf(&out, h.DNS)
	}
	return strings.TrimRight(out.String(), "\n")
}

// selfGiven is the address that a machine gives itself when nobody does (RFC 3927).
func selfGiven(m mac.Address) netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{169, 254, 1 + m[4]%254, m[5]}), 16)
}

func linuxInterface(out *strings.Builder, a *plan.Adapter, address netip.Prefix, up bool) {
	state, flags := "UP", "BROADCAST,MULTICAST,UP,LOWER_UP"
	if !up {
		state, flags = "DOWN", "NO-CARRIER,BROADCAST,MULTICAST,UP"
	}
	fmt.Fprintf(
		out,
		"%d: %s: <%s> mtu 1500 state %s\n    link/ether %s\n",
		a.Number+1,
		deviceOf(a),
		flags,
		state,
		a.MAC,
	)
	if address.IsValid() {
		dynamic := ""
		if a.How != plan.Static && !address.Addr().IsLinkLocalUnicast() {
			dynamic = " dynamic"
		}
		fmt.Fprintf(out, "    inet %s scope global%s %s\n", address, dynamic, deviceOf(a))
	}
}

func bsdInterface(out *strings.Builder, a *plan.Adapter, address netip.Prefix, up bool) {
	status := "active"
	if !up {
		status = "no carrier"
	}
	fmt.Fprintf(
		out,
		"%s: flags=8843<UP,BROADCAST,RUNNING,SIMPLEX,MULTICAST> metric 0 mtu 1500\n\tether %s\n",
		deviceOf(a),
		a.MAC,
	)
	if address.IsValid() {
		fmt.Fprintf(
			out,
			"\tinet %s netmask %s broadcast %s\n",
			address.Addr(),
			subnet.Mask(address.Bits()),
			subnet.Broadcast(address),
		)
	}
	fmt.Fprintf(out, "\tstatus: %s\n", status)
}

func desktopAdapter(
	out *strings.Builder,
	a *plan.Adapter,
	address netip.Prefix,
	gateway netip.Addr,
	dns []netip.Addr,
	up bool,
) {
	fmt.Fprintf(out, "Ethernet adapter %s:\n\n", deviceOf(a))
	line := func(key, value string) {
		fmt.Fprintf(out, "   %s : %s\n", key+strings.Repeat(" .", max(0, (34-len(key))/2)), value)
	}
	if !up {
		line("Media State", "Media disconnected")
	}
	line("Physical Address", strings.ToUpper(strings.ReplaceAll(a.MAC.String(), ":", "-")))
	dhcp := "Yes"
	if a.How == plan.Static {
		dhcp = "No"
	}
	line("DHCP Enabled", dhcp)
	if !up {
		return
	}
	if address.IsValid() {
		line("IPv4 Address", address.Addr().String())
		line("Subnet Mask", subnet.Mask(address.Bits()))
	}
	shown := ""
	if gateway.IsValid() {
		shown = gateway.String()
	}
	line("Default Gateway", shown)
	for _, d := range dns {
		line("DNS Servers", d.String())
	}
}

func resolvConf(out *strings.Builder, dns []netip.Addr) {
	for _, d := range dns {
		fmt.Fprintf(out, "nameserver %s\n", d)
	}
}

// pingText is what a ping prints.
func pingText(m *plan.Machine, to netip.Addr, size int, got claims.GotReach) string {
	if systemOf(m) == "desktop" {
		return desktopPing(to, got)
	}
	head := fmt.Sprintf("PING %s (%s) %d(%d) bytes of data.\n", to, to, size, size+28)
	switch {
	case got.Answered:
		return head + fmt.Sprintf(
			"%d bytes from %s: icmp_seq=1 ttl=63 time=0.4 ms\n\n--- %s ping statistics ---\n1 packets transmitted, 1 received, 0%% packet loss",
			size+8,
			to,
			to,
		)
	case got.Outcome.Is(outcome.NoRoute, outcome.NoAddress):
		return "ping: connect: Network is unreachable"
	case got.Outcome.Is(outcome.Unreachable, outcome.TimeExceeded, outcome.TooBig):
		who := got.Outcome.By.String()
		return head + fmt.Sprintf(
			"From %s icmp_seq=1 Destination Host Unreachable\n\n--- %s ping statistics ---\n1 packets transmitted, 0 received, +1 errors, 100%% packet loss",
			who,
			to,
		)
	case got.Outcome.Is(outcome.NoNeighbor):
		return head + fmt.Sprintf(
			"Destination Host Unreachable\n\n--- %s ping statistics ---\n1 packets transmitted, 0 received, +1 errors, 100%% packet loss",
			to,
		)
	}
	return head + fmt.Sprintf("\n--- %s ping statistics ---\n3 packets transmitted, 0 received, 100%% packet loss", to)
}

func desktopPing(to netip.Addr, got claims.GotReach) string {
	head := fmt.Sprintf("Pinging %s with 32 bytes of data:\n", to)
	tail := fmt.Sprintf("\nPing statistics for %s:\n    Packets: Sent = 4, Received = 0, Lost = 4 (100%% loss),", to)
	switch {
	case got.Answered:
		return head + fmt.Sprintf(
			"Reply from %s: bytes=32 time<1ms TTL=63\n\nPing statistics for %s:\n    Packets: Sent = 4, Received = 4, Lost = 0 (0%% loss),",
			to,
			to,
		)
	case got.Outcome.Is(outcome.NoRoute, outcome.NoAddress):
		return head + "PING: transmit failed. General failure." + tail
	case got.Outcome.Is(outcome.Unreachable, outcome.TimeExceeded, outcome.TooBig):
		who := got.Outcome.By.String()
		return head + "Reply from " + who + ": Destination host unreachable." + tail
	}
	return head + "Request timed out." + tail
}

// nameText is what a question for a name prints.
func nameText(m *plan.Machine, name string, got claims.GotName) string {
	at := got.Resolver.String()
	switch {
	case got.Answered && len(got.Addresses) > 0:
		late := ""
		if got.Tries > 1 {
			late = ";; communications error to " + at + "#53: timed out\n"
		}
		return late + fmt.Sprintf("%s has address %s", name, got.Addresses[0])
	case got.Answered:
		return fmt.Sprintf("Host %s not found: 2(SERVFAIL)", name)
	case !got.Resolver.IsValid():
		return ";; no servers could be reached: none is set"
	case got.Outcome.By.IsValid() && got.Outcome.By == got.Resolver, got.Outcome.Is(outcome.Refused):
		return fmt.Sprintf(";; communications error to %s#53: connection refused", at)
	}
	return fmt.Sprintf(";; communications error to %s#53: timed out\n;; no servers could be reached", at)
}

// pageText is what asking for a page prints.
func pageText(from string, at netip.AddrPort, got claims.GotReach) string {
	switch {
	case got.Answered && got.Who != "":
		return fmt.Sprintf(
			"HTTP/1.1 200 OK\n\n%s (it saw %s come from %s)",
			got.Who,
			from,
			cmp.Or(addressText(got.Source), "nobody"),
		)
	case got.Answered:
		return "HTTP/1.1 200 OK"
	case got.Outcome.Is(outcome.Refused, outcome.Reset):
		return fmt.Sprintf("curl: (7) Failed to connect to %s port %d: Connection refused", at.Addr(), at.Port())
	case got.Outcome.Is(outcome.NoRoute):
		return fmt.Sprintf("curl: (7) Failed to connect to %s port %d: Network is unreachable", at.Addr(), at.Port())
	case got.Outcome.Is(outcome.Unreachable, outcome.TimeExceeded, outcome.TooBig):
		return fmt.Sprintf("curl: (7) Failed to connect to %s port %d: No route to host", at.Addr(), at.Port())
	}
	return fmt.Sprintf(
		"curl: (28) Failed to connect to %s port %d after 75000 ms: Connection timed out",
		at.Addr(),
		at.Port(),
	)
}

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// console is what the console of an appliance lists.
func (b *Bench) console(m *plan.Machine) Reply {
	if b.off(m) {
		return Reply{"Nothing: the screen is dark.", 1}
	}
	var out strings.Builder
	is := b.drill.Built.Plan.Machine(m.Name)
	for _, a := range is.Adapters {
		h := b.lab.Held(a)
		link, address := "up", "no address"
		if !a.Plugged || a.Segment.Nowhere() || b.cut && a.Role == "wan" {
			link = "no link"
		}
		if h.Address.IsValid() {
			address = h.Address.String()
		}
		how := "static"
		switch a.How {
		case plan.FromAbove:
			how = "lease"
		case plan.NoAddress:
			how = "none set"
		}
		fmt.Fprintf(&out, "%-12s %-8s %s  %-8s %-20s %s\n", a.Name, deviceOf(a), a.MAC, link, address, how)
		if h.Gateway.IsValid() {
			fmt.Fprintf(
				&out,
				"%-12s default via %s, resolvers %s\n",
				"",
				h.Gateway,
				cmp.Or(strings.Join(subnet.Texts(h.DNS), " "), "none"),
			)
		}
	}
	return Reply{strings.TrimRight(out.String(), "\n"), 1}
}

// rules is what the settings of an appliance say.
func (b *Bench) rules(m *plan.Machine) Reply {
	if b.off(m) {
		return Reply{"Nothing: no page opens.", 1}
	}
	var out strings.Builder
	is := b.drill.Built.Plan.Machine(m.Name)
	for i, r := range is.Rules {
		fmt.Fprintf(&out, "rule %d   %s\n", i+1, ruleText(r, m))
	}
	if len(is.Rules) == 0 {
		out.WriteString("no rules\n")
	}
	for _, a := range is.Adapters {
		if v := a.Leases; v != nil {
			fmt.Fprintf(
				&out,
				"dhcp     %s: %s, router %s, DNS %s, %d reserved\n",
				a.Name,
				v.Pool,
				cmp.Or(addressText(v.Router), "none"),
				cmp.Or(strings.Join(subnet.Texts(v.DNS), " "), "none"),
				len(v.Reservations),
			)
		} else if a.Role.Inside() {
			fmt.Fprintf(&out, "dhcp     %s: off\n", a.Name)
		}
	}
	var masq []string
	for _, s := range is.Masq {
		masq = append(masq, s.Subnet.String())
	}
	fmt.Fprintf(&out, "translated on the WAN: %s\n", cmp.Or(strings.Join(masq, ", "), "nothing"))
	for _, v := range is.Publishes {
		fmt.Fprintf(&out, "forward  %s/%d to %s %s/%d\n", v.Proto, v.Port, v.To.Machine.Name, v.Proto, v.Target)
	}
	for _, a := range is.Adapters {
		if len(a.Admin) > 0 {
			fmt.Fprintf(&out, "admin    %s at %s\n", a.Admin[0], a.Name)
		}
	}
	return Reply{strings.TrimRight(out.String(), "\n"), 2}
}

// ruleText returns a rule as it is set, also where a slip has changed it from what its text
// says.
func ruleText(r plan.Rule, m *plan.Machine) string {
	for _, of := range m.Rules {
		if of.Text != r.Text || len(of.Services) == 0 {
			continue
		}
		text := r.Text
		if fmt.Sprint(of.Services) != fmt.Sprint(r.Services) {
			var services []string
			for _, s := range r.Services {
				services = append(services, s.String())
			}
			text = strings.Replace(text, " any from", " "+strings.Join(services, ",")+" from", 1)
		}
		if len(of.From) > 0 && len(r.From) > 0 && of.From[0].Segment != nil && r.From[0].Segment != nil &&
			of.From[0].Segment.Name != r.From[0].Segment.Name {
			text = strings.Replace(text, "from "+of.From[0].Segment.Name, "from "+r.From[0].Segment.Name, 1)
		}
		return text
	}
	return r.Text
}

// adapters is what the hypervisor says of a machine's adapters.
func (b *Bench) adapters(m *plan.Machine) Reply {
	is := b.drill.Built.Plan.Machine(m.Name)
	var out strings.Builder
	for _, a := range is.Own() {
		state := "connected"
		if !a.Plugged || b.cut && a.Role == "wan" {
			state = "not connected"
		}
		fmt.Fprintf(&out, "adapter %d  %s  on %s  %s\n", a.Number, a.MAC, a.Segment.Called(), state)
	}
	return Reply{strings.TrimRight(out.String(), "\n"), 3}
}
