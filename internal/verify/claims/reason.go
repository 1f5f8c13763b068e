package claims

import (
	"strings"
)

// Reason is why a claim is broken, as data: a code that says how the others are to be read, and
// from which text and remedy are made in one place ([Reason.Text], [Reason.Remedy]).
type Reason struct {
	Code     Code   `json:"code"`
	Subject  string `json:"subject"`            // the machine or segment that it is about
	Segment  string `json:"segment,omitempty"`  // where it was observed
	Port     string `json:"port,omitempty"`     // the appliance's port concerned: sluice.lan
	By       string `json:"by,omitempty"`       // who did it: a machine, or an address with its MAC address
	Service  string `json:"service,omitempty"`  // tcp/443
	Expected string `json:"expected,omitempty"` // what is planned
	Observed string `json:"observed,omitempty"` // what is, instead
	Detail   string `json:"detail,omitempty"`   // what the machine that tried it reported
	Do       Remedy `json:"do,omitempty"`       // which remedy applies; empty: that of the code
}

// Code is the kind of a reason.
type Code string

// Remedy is the kind of a remedy, where a code has several.
type Remedy string

// The remedies that are not their code's only one.
const (
	disableServer     Remedy = "disable-dhcp-server"
	disableHostServer Remedy = "disable-host-dhcp"
	identifyServer    Remedy = "identify-dhcp-server"
	removeAdapter     Remedy = "remove-adapter"
	takeOffAdmin      Remedy = "remove-admin-page"
	openPath          Remedy = "remove-path"
	closePath         Remedy = "close-path"
	findRule          Remedy = "find-rule"
	moveInside        Remedy = "move-inside"
	unjoinGuest       Remedy = "remove-joining-guest"
)

// wording is how a code or a remedy reads: {name} stands for a field of the reason.
type wording struct{ text, remedy string }

// codes are all codes, each with its text and its usual remedy.
func codes(c Code) wording {
	switch c {
	// DHCP
	case "no-dhcp-planned":
		return wording{"no DHCP server is planned on {segment}", "let the appliance serve DHCP there"}
	case "no-lease":
		return wording{
			"{subject} got no DHCP lease on {segment}",
			"check that {expected} and {port} are on the same segment",
		}
	case "wrong-reservation":
		return wording{"{subject} got {observed} from {by}; {expected} is reserved for it", ""}
	case "outside-pool":
		return wording{"{subject} got {observed} from {by}, outside the pool {expected}", ""}
	case "wrong-dhcp-server":
		return wording{"{subject} got {observed} from {by}, not from {expected}", ""}
	case "wrong-prefix-length":
		return wording{"{subject} got the prefix length {observed}; {segment} has {expected}", ""}
	case "wrong-dhcp-gateway":
		return wording{"{subject} got the default gateway {observed} by DHCP; planned: {expected}", ""}
	case "wrong-dhcp-dns":
		return wording{"{subject} got by DHCP: {observed}; planned: {expected}", ""}
	// one DHCP server, no rogue announcements
	case "rogue-dhcp-server":
		return wording{
			"{by} answers on {segment} as well and offers {observed}; a guest takes whichever offer arrives first",
			"",
		}
	case "dhcp-server-silent":
		return wording{"no DHCP server answers on {segment}; {expected} should", "check that {port} is on {segment}"}
	case "rogue-router":
		return wording{"{by} announces {observed} over IPv6 on {segment}; this is not planned",
			"find the machine with that MAC address and disable its router advertisements"}
	case "router-silent":
		return wording{
			"no router announces {expected} on {segment}; {port} should",
			"enable router advertisements on {port}",
		}
	// IPv6
	case "no-ipv6-address":
		return wording{"{subject} has no IPv6 address on {segment}", "check that {port} announces {expected}"}
	case "wrong-ipv6-address":
		return wording{
			"{subject} has the IPv6 address {observed}; planned: {expected}",
			"find the other router that announces on {segment}",
		}
	case "wrong-ipv6-router":
		return wording{"{subject} uses the IPv6 router {observed}; planned: {expected} ({port})",
			"find the other router that announces on {segment}"}
	case "wrong-ipv6-dns":
		return wording{
			"{subject} got over IPv6: {observed}; planned: {expected}",
			"find the other DHCPv6 server on {segment}",
		}
	// default gateway
	case "no-inside-port":
		return wording{"no appliance has a port for guests on {segment}", "give an appliance a lan port there"}
	case "no-default-gateway":
		return wording{"{subject} has no default gateway: {detail}", "check its DHCP lease, or set its static gateway"}
	case "gateway-silent":
		return wording{
			"the default gateway {observed} of {subject} does not answer",
			"compare it with {expected}, {port}",
		}
	case "gateway-twice":
		return wording{"two machines answer for the default gateway {expected}: {observed}",
			"change the address of the one that is not the appliance"}
	case "wrong-gateway":
		return wording{
			"the default gateway {detail} of {subject} is {observed}; planned: {expected} ({port})",
			"set the gateway to {service}",
		}
	// names
	case "no-dns-server":
		return wording{"{subject} has no DNS server: {detail}", "let DHCP distribute one, or set a static one"}
	case "dns-silent":
		return wording{
			"the DNS server {by} does not answer {subject}: {detail}",
			"check that the appliance's DNS server has an upstream one",
		}
	case "wrong-name":
		return wording{"the DNS server {by} returns {observed} for {service}; it is {expected}: {detail}",
			"check where that DNS server forwards to"}
	// outside
	case "outside-unreachable":
		return wording{
			"{subject} does not reach the test server ({service}): {detail}",
			"find the cause with `bastion diagnose`",
		}
	case "destination-unreachable":
		return wording{"{subject} does not reach {observed} ({service}), which the rules allow: {detail}",
			"find the cause with `bastion diagnose`"}
	case "not-translated":
		return wording{
			"the test server saw {subject}'s own address {observed}: its source was not translated",
			"find the path that it took",
		}
	case "wrong-source":
		return wording{
			"the test server saw {subject} ({service}) come from {observed}, not from the WAN address {expected} of {by}",
			"find the path that bypasses the appliance: another adapter, or a segment that is upstream",
		}
	case "denied-service-passes":
		return wording{"the rules deny {service} from {subject} to outside, but it reaches the test server",
			"find the rule that allows it, or the path around the appliance"}
	// first hop
	case "no-hop":
		return wording{"no router on the path reports itself: {detail}", "check the guest's default gateway first"}
	case "wrong-hop":
		return wording{
			"the first hop is {observed}; planned: {expected} ({port})",
			"find the adapter or gateway with that path, and remove it",
		}
	// the host
	case "host-answers":
		return wording{
			"the machine that carries the lab answers {subject} at {observed} ({service})",
			"on that machine, drop what comes from the lab in its input chain; stop and start --join sets that up again",
		}
	// full size
	case "full-size-lost":
		return wording{
			"packets of {expected} between {subject} and {observed} are lost without an error ({service}); small ones pass",
			"set the same MTU along the path, and let routers report what they cannot forward (ICMP type 3 code 4; ICMPv6 type 2)",
		}
	case "reported-size-lost":
		return wording{
			"packets of {expected} from {subject} ({service}) are {detail}, but packets of that size are lost as well",
			"correct the MTU of the router that reports it",
		}
	// bypass, inbound
	case "unplanned-path":
		return wording{"{subject} has the {observed}, which is not in the plan, and {detail}",
			"remove it from {subject}, or disconnect it"}
	case "bypass":
		return wording{"{subject} reaches {observed}: {detail}", ""}
	case "inbound-open":
		return wording{"from outside, {service} answers at {port}; it is not published", ""}
	case "admin-outside":
		return wording{"the admin page of {subject} can be reached on {segment}, which is upstream",
			"disable the admin page on {port}, or move it to an inside segment"}
	// segments, port forwards
	case "allowed-blocked":
		return wording{
			"the rules allow {service} from {subject} to {segment}, but {by} does not reach {expected}: {detail}",
			"check address and default gateway of both guests",
		}
	case "denied-passes":
		return wording{"the rules deny {service} from {subject} to {segment}, but {by} reaches {observed}",
			"find what else joins the two segments"}
	case "forward-silent":
		return wording{"from {by}, {service} at {subject} does not answer: {detail}",
			"check that the guest has its planned address and the rules allow it in"}
	case "forward-elsewhere":
		return wording{"{service} at {subject} reaches {observed}, not {expected}", "give {expected} a fixed address"}
	// sentences
	case "forbidden-passes":
		return wording{"{subject} gets through", "find the rule that allows it"}
	case "wanted-blocked":
		return wording{"{subject} does not get through", "find the rule that denies it"}
	case "nobody-named":
		return wording{"the sentence names no machine that is connected", "connect one, or remove the sentence"}
	// layout
	case "no-appliance":
		return wording{"no appliance has a port on {segment}, and no guest there forwards to one",
			"give an appliance a port there, or move the guest to a segment that has one"}
	case "sides-joined":
		return wording{
			"{port} and {by} are one broadcast domain: {detail}",
			"give each side its own segment and switch",
		}
	case "side-outside":
		return wording{"{port} is not separated from outside: {detail}", "give each side its own segment and switch"}
	// duplicates
	case "duplicate":
		return wording{"{observed} is used more than once on {segment}: {by}", "give each its own address"}
	case "duplicate-address":
		return wording{
			"{observed} machines answer for {expected} on {segment}",
			"change the address of the one that is not {subject}",
		}
	}
	return wording{}
}

// remedies are how remedies read that stand beside those of codes.
func remedies(r Remedy) string {
	switch r {
	case disableServer:
		return "disable the DHCP server at {by} on {segment}"
	case disableHostServer:
		return "disable the host's DHCP server on {segment}: `dhcp: none`"
	case identifyServer:
		return "find the DHCP server {by}"
	case removeAdapter:
		return "remove {expected} from {segment}"
	case takeOffAdmin:
		return "disable the admin page on {port}, or remove the rule that allows it"
	case closePath:
		return "remove that path from the lab, or close it by a rule, then rehearse again"
	case findRule:
		return "find the rule that allows it"
	case moveInside:
		return "move it to a segment behind an appliance, or write `outside: true` if it is meant to be outside"
	case unjoinGuest:
		return "remove the guest between them from one of the two segments, or allow everything by a rule"
	case openPath:
		return "remove that path from the lab, then rehearse again"
	}
	return ""
}

// Text returns what is wrong, in a sentence without a full stop.
func (r Reason) Text() string { return r.fill(codes(r.Code).text) }

// Remedy returns what to do about it.
func (r Reason) Remedy() string {
	if r.Do != "" {
		return r.fill(remedies(r.Do))
	}
	return r.fill(codes(r.Code).remedy)
}

func (r Reason) fill(text string) string {
	if r.Detail == "" { // it was not reported
		text = strings.Replace(text, ": {detail}", "", 1)
	}
	return strings.NewReplacer("{subject}", r.Subject, "{segment}", r.Segment, "{port}", r.Port, "{by}", r.By, "{service}", r.Service,
		"{expected}", r.Expected, "{observed}", r.Observed, "{detail}", r.Detail).
		Replace(text)
}
