package diagnose

import (
	"cmp"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
	"openbastion/internal/observe/listing"
	"openbastion/internal/verify/claims"
)

// FromPaste reads what somebody copied from a machine: its settings, and what came of
// pings, questions for names and pages. What is not said is not guessed.
func (s *Study) FromPaste(m *plan.Machine, text string) []Seen {
	r := paste{s: s, m: m}
	if m.Guest != nil {
		r.guest(listing.Read(text, m.Name))
		r.tried(text)
	} else {
		r.ports(listing.Read(text, m.Name))
		r.tried(text)
	}
	return r.out
}

// paste makes what a machine shows into what was seen.
type paste struct {
	s      *Study
	m      *plan.Machine
	own    netip.Prefix // the address that it shows, with its mask
	hop    netip.Addr   // the next hop that it shows; invalid: none
	routed bool         // it shows whether it has one
	out    []Seen
}

// see notes that a look shows a value, the first time that it does.
func (r *paste) see(i int, v Value, how string) {
	if v == Unseen {
		return
	}
	for _, x := range r.out {
		if x.Looks[0] == i {
			return
		}
	}
	l := r.s.Looks[i]
	r.out = append(r.out, Seen{Text: l.ID + "=" + cmp.Or(how, v.Word(r.s.Plan)), Looks: []int{i}, Value: v})
}

func (r *paste) at(v Value, how string, kinds ...Kind) {
	for _, i := range r.s.of(r.m, kinds...) {
		r.see(i, v, how)
	}
}

// guest reads a guest's settings.
func (r *paste) guest(l listing.Listing) {
	home := Home(r.m)
	if home == nil || l.Empty() {
		return
	}
	own := r.interfaceOf(l, home)
	if own == nil {
		r.routes(l)
		return
	}
	if len(own.Tail) == 12 {
		r.at(sameOr(own.Tail == strings.ReplaceAll(home.MAC.String(), ":", "")), "", Hardware)
	}
	shown := map[string]bool{} // adapters that are listed whole
	for _, x := range l.Interfaces {
		if len(x.Tail) == 12 {
			shown[x.Tail] = true
		}
	}
	if len(shown) > 0 {
		r.at(sameOr(len(shown) == len(r.m.Adapters)), "", Adapters)
	}
	switch own.Link {
	case listing.LinkUp:
		r.at(Holds, "", Cable)
	case listing.LinkDown:
		r.at(None, "", Cable)
	}
	if own.Lease != listing.LeaseUnsaid {
		r.at(sameOr((own.Lease == listing.IsLease) == (home.How != plan.Static)), "", How)
	}
	for _, i := range r.s.of(r.m, Lease, Address) {
		look := r.s.Looks[i]
		best := netip.Prefix{}
		for _, a := range own.Addresses {
			if a.Addr().Is4() && (!best.IsValid() || look.planned(a.Addr())) {
				best = a.Prefix
				if a.Masked {
					r.own = a.Prefix
					r.out = append(r.out, r.s.maskOf(r.m, a.Prefix)...)
				}
			}
		}
		v := addressValue(r.s.Plan, home.Segment, look.planned, best)
		if best.IsValid() {
			r.see(i, v, best.Addr().String())
		} else {
			r.see(i, v, "")
		}
	}
	r.routes(l)
}

func sameOr(same bool) Value {
	if same {
		return Holds
	}
	return Other
}

// interfaceOf finds the interface of a listing that is an adapter: by its hardware
// address, else the only one, else the first with an address or a link.
func (r *paste) interfaceOf(l listing.Listing, home *plan.Adapter) *listing.Interface {
	for i := range l.Interfaces {
		if tail := l.Interfaces[i].Tail; tail != "" &&
			strings.HasSuffix(strings.ReplaceAll(home.MAC.String(), ":", ""), tail) {
			return &l.Interfaces[i]
		}
	}
	var found *listing.Interface
	for i := range l.Interfaces {
		x := &l.Interfaces[i]
		if found == nil || len(found.Addresses) == 0 && len(x.Addresses) > 0 {
			found = x
		}
	}
	return found
}

// routes reads the way to everywhere, and who is asked for names.
func (r *paste) routes(l listing.Listing) {
	if r.routed = l.RoutesHere || len(l.Routes) > 0; len(l.Routes) > 0 {
		r.hop = l.Routes[0].Gateway
	}
	for _, i := range r.s.of(r.m, Router) {
		switch planned := r.s.routerOf(r.s.Looks[i]); {
		case len(l.Routes) > 0:
			r.see(i, routerValue(r.own, l.Routes[0].Gateway, planned), l.Routes[0].Gateway.String())
		case l.RoutesHere:
			r.see(i, oneValue(netip.Addr{}, planned), "")
		}
	}
	for _, i := range r.s.of(r.m, Resolver) {
		planned := r.s.resolversOf(r.s.Looks[i])
		switch {
		case len(l.Resolvers) > 0 && l.Resolvers[0].Address.IsLoopback(): // a stub on the machine itself says nothing of who is asked
		case len(l.Resolvers) > 0:
			r.see(i, listValue([]netip.Addr{l.Resolvers[0].Address}, planned), l.Resolvers[0].Address.String())
		case l.NamesHere:
			r.see(i, listValue(nil, planned), "")
		}
	}
	gate := Home(r.m).Gate()
	for _, n := range l.Neighbors {
		if gate != nil && gate.Address.IsValid() && n.Address == gate.Address.Addr() && len(n.Tail) == 12 &&
			!claims.Transparent(gate) {
			r.at(sameOr(n.Tail == strings.ReplaceAll(gate.MAC.String(), ":", "")), "", Gateway)
		}
	}
}

// ports reads an appliance's console.
func (r *paste) ports(l listing.Listing) {
	if l.Empty() {
		return
	}
	if i, ok := r.s.index[r.m.Name+".console"]; ok {
		r.see(i, Holds, "")
	}
	for i, look := range r.s.Looks {
		if look.Machine != r.m || look.At == nil || look.Kind != Cable && look.Kind != Address {
			continue
		}
		for _, x := range l.Interfaces {
			mac := strings.ReplaceAll(look.At.MAC.String(), ":", "")
			if x.Tail == "" || !strings.HasSuffix(mac, x.Tail) || look.At.Over != nil {
				continue
			}
			switch {
			case look.Kind == Cable && x.Link == listing.LinkDown:
				r.see(i, None, "")
			case look.Kind == Cable && x.Link == listing.LinkUp:
				r.see(i, Holds, "")
			case look.Kind == Address && len(x.Addresses) > 0:
				r.see(
					i,
					addressValue(r.s.Plan, look.home, look.planned, x.Addresses[0].Prefix),
					x.Addresses[0].Addr().String(),
				)
			case look.Kind == Address:
				r.see(i, None, "")
			}
		}
	}
}

// tried reads what came of tries: pings, questions for names, pages, each with its
// command or its heading.
func (r *paste) tried(text string) {
	var t try
	for line := range strings.Lines(text) {
		if next := t; next.begins(line) {
			r.conclude(t)
			t = next
		}
		t.reads(line)
	}
	r.conclude(t)
}

// conclude notes what a try that is over came to.
func (r *paste) conclude(t try) {
	if t.value == Unseen {
		return
	}
	to, err := netip.ParseAddr(t.to)
	switch {
	case t.what == "name":
		r.at(t.value, "", Name)
	case err != nil && t.what == "page" && t.value == Failed:
		r.at(None, "", Name)
	case err != nil:
		return // by a name it says nothing of numbers alone
	case t.what == "page":
		r.page(to, t.value)
	default:
		r.ping(to, t.value, t.large)
	}
}

// ping notes a ping of an address.
func (r *paste) ping(to netip.Addr, v Value, large bool) {
	home := Home(r.m)
	if home == nil {
		return
	}
	if large {
		r.at(onOff(v == Holds), "", Large)
		return
	}
	if gate := home.Gate(); gate != nil && gate.Address.IsValid() && gate.Address.Addr() == to {
		switch {
		case r.routed && r.hop != to: // it is not where this guest sends what is for elsewhere
		case v == Holds:
			r.at(Holds, "", Gateway)
		case !r.denied(gate, home):
			r.at(None, "", Gateway)
		}
		return
	}
	for i, l := range r.s.Looks {
		if l.Machine == r.m && (l.Kind == Neighbor || l.Kind == Across && l.service.Proto == "icmp") &&
			l.To.Address.IsValid() &&
			l.To.Address.Addr() == to {
			r.see(i, allowedValue(l, v), "")
			return
		}
	}
	if r.outside(to) {
		for _, i := range r.s.of(r.m, Number) {
			r.see(i, allowedValue(r.s.Looks[i], v), "")
		}
	}
}

// denied reports whether a rule keeps a guest from pinging its next hop.
func (r *paste) denied(gate, home *plan.Adapter) bool {
	rule, action := gate.Machine.Decide(
		plan.Flow{Source: claims.Likely(home), Destination: gate.Address.Addr(), Proto: lab.ICMP, Own: true},
	)
	return rule != nil && action != lab.Allow
}

// allowedValue turns what answered round where nothing may.
func allowedValue(l *Look, v Value) Value {
	switch {
	case l.allowed || l.Kind == Neighbor:
		return v
	case v == Holds:
		return Open
	}
	return Holds
}

// outside reports whether it is an address that is none of the lab's.
func (r *paste) outside(a netip.Addr) bool {
	for _, s := range r.s.Plan.Segments {
		if s.Subnet.Contains(a) {
			return false
		}
	}
	return !a.IsLoopback() && a.Is4()
}

func (r *paste) page(to netip.Addr, v Value) {
	for i, l := range r.s.Looks {
		switch {
		case l.Machine != r.m:
		case l.Kind == Admin && l.To.Address.Addr() == to:
			r.see(i, v, "")
			return
		case (l.Kind == Inside || l.Kind == Across && l.service.Proto == "tcp") && l.To.Address.IsValid() && l.To.Address.Addr() == to:
			r.see(i, allowedValue(l, v), "")
			return
		}
	}
	if r.outside(to) {
		for _, i := range r.s.of(r.m, Page) {
			r.see(i, allowedValue(r.s.Looks[i], v), "")
		}
	}
}

// try is one thing that somebody tried, as it stands in a paste.
type try struct {
	what  string // ping, name or page
	to    string
	large bool
	value Value
}

// toolPatterns are what tools print: their commands with what these go to, and what came.
type toolPatterns struct{ ping, name, page, received, lost, url *regexp.Regexp }

var tools = sync.OnceValue(func() toolPatterns {
	return toolPatterns{
		ping: regexp.MustCompile(`(?i)(?:^|[\s$#>])ping6?\s+(.*)$`),
		name: regexp.MustCompile(
			`(?i)(?:^|[\s$#>])(?:dig|host|nslookup|getent\s+(?:a?hosts\w*)|resolvectl\s+query)\s+(.*)$`,
		),
		page:     regexp.MustCompile(`(?i)(?:^|[\s$#>])(?:curl|wget|fetch)\s+(.*)$`),
		received: regexp.MustCompile(`(?i)(\d+)\s+(?:packets\s+)?received|received\s*=\s*(\d+)`),
		lost:     regexp.MustCompile(`(?i)\b100(?:\.0)?% (?:packet )?loss`),
		url:      regexp.MustCompile(`(?:https?://)?\[?([0-9A-Za-z.-]+)\]?(?::\d+)?(?:/\S*)?$`),
	}
})

// begins reports whether a line begins a new try, and takes what it says of it.
func (t *try) begins(line string) bool {
	if t.what != "" && t.value == Unseen && strings.HasPrefix(line, "PING ") {
		return false // the heading of the ping whose command stands above
	}
	p, line := tools(), strings.TrimRight(line, "\r\n")
	if m := p.ping.FindStringSubmatch(line); m != nil && !strings.Contains(line, "statistics") &&
		!strings.HasPrefix(line, "---") {
		*t = try{
			what:  "ping",
			to:    target(m[1]),
			large: strings.Contains(m[1], "1472") || strings.Contains(m[1], "1473"),
		}
		return true
	}
	if m := p.name.FindStringSubmatch(line); m != nil && !strings.Contains(line, "DiG") {
		*t = try{what: "name", to: target(m[1])}
		return true
	}
	if m := p.page.FindStringSubmatch(line); m != nil {
		*t = try{what: "page"}
		for _, w := range strings.Fields(m[1]) {
			if u := p.url.FindStringSubmatch(w); u != nil && !strings.HasPrefix(w, "-") &&
				strings.ContainsAny(w, "./") {
				t.to = u[1]
			}
		}
		return true
	}
	return false
}

// target returns what a command goes to: its last word that is no option, or the one that
// an address stands in.
func target(words string) string {
	last := ""
	for _, w := range strings.Fields(strings.ReplaceAll(words, "(", " ")) {
		w = strings.Trim(w, "):,")
		if _, err := netip.ParseAddr(w); err == nil {
			return w
		}
		if _, err := strconv.Atoi(w); err != nil && !strings.HasPrefix(w, "-") && strings.Contains(w, ".") {
			last = w
		}
	}
	return last
}

// verdicts are what a line says of a try, by words in small letters; the first that fits.
var verdicts = []struct {
	what, words string
	value       Value
}{
	{
		"ping",
		"network is unreachable",
		NoRoute,
	}, {"ping", "no route to host", NoRoute}, {"ping", "transmit failed", NoRoute},
	{
		"ping",
		"general failure",
		NoRoute,
	}, {"ping", "packet filtered", Refused}, {"ping", "communication administratively", Refused},
	{"ping", "communication prohibited", Refused},
	{
		"ping",
		"destination net unreachable",
		Unreached,
	}, {"ping", "message too long", None}, {"ping", "frag needed", None},
	{
		"name",
		"servfail",
		Failed,
	}, {"name", "server failure", Failed}, {"name", "nxdomain", Failed}, {"name", "non-existent domain", Failed},
	{
		"name",
		"no servers could be reached",
		None,
	}, {"name", "timed out", None}, {"name", "no response from server", None},
	{
		"name",
		"connection refused",
		Refused,
	}, {"name", "network unreachable", NoRoute}, {"name", "temporary failure in name resolution", None},
	{
		"page",
		"could not resolve",
		Failed,
	}, {"page", "connection refused", Refused}, {"page", "no route to host", Unreached},
	{
		"page",
		"network is unreachable",
		NoRoute,
	}, {"page", "timed out", None}, {"page", "timeout", None}, {"page", "connection reset", Refused},
}

// reads takes what a line says of the try.
func (t *try) reads(line string) {
	if t.what == "" {
		return
	}
	low := strings.ToLower(line)
	for _, v := range verdicts {
		if v.what == t.what && strings.Contains(low, v.words) {
			t.value = v.value
			return
		}
	}
	p := tools()
	switch {
	case t.what == "ping" && strings.Contains(low, "destination host unreachable"):
		if t.value == Unseen {
			t.value = Unreached
		}
	case t.what == "ping":
		if m := p.received.FindStringSubmatch(line); m != nil {
			if n, _ := strconv.Atoi(cmp.Or(m[1], m[2])); n > 0 {
				t.value = Holds
			} else if t.value == Unseen {
				t.value = None
			}
		} else if p.lost.MatchString(line) && t.value == Unseen {
			t.value = None
		}
	case t.what == "name" && t.value == Unseen && answersName(low, t.to):
		t.value = Holds
	case t.what == "page" && (strings.HasPrefix(low, "http/") || strings.Contains(low, "200 ok") || strings.Contains(low, "http_code=200")):
		t.value = Holds
	}
}

// answersName reports whether it is a line that gives a name's address.
func answersName(line, name string) bool {
	if strings.Contains(line, "has address") {
		return true
	}
	name = strings.ToLower(strings.TrimSuffix(name, "."))
	if name == "" || strings.HasPrefix(line, ";") || !strings.Contains(line, name) {
		return false
	}
	for _, w := range strings.Fields(line) {
		if a, err := subnet.ParseAddr(w); err == nil && !a.IsLoopback() {
			return true
		}
	}
	return false
}
