// Package survey looks at the machine it runs on, as a carrier of labs: its
// network adapters and networks, processors, memory, disk, and whether it can
// accelerate virtual machines. It changes nothing.
package hostinfo

import (
	"fmt"
	"net/netip"
	"runtime"
	"slices"
	"strings"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/subnet"
)

// Kind is what an adapter is.
type Kind string

// The kinds.
const (
	Wired    Kind = "wired"
	Wireless Kind = "wireless"
	Virtual  Kind = "virtual"
)

// Adapter is one network adapter, loopback left out.
type Adapter struct {
	Name      string         `json:"name"`
	Kind      Kind           `json:"kind"`
	Up        bool           `json:"up"`
	Speed     int            `json:"speed,omitempty"` // Mbit/s; 0 when not known
	MAC       string         `json:"mac,omitempty"`
	Addresses []netip.Prefix `json:"addresses"`
}

// Answer is yes, no, or not known.
type Answer string

// The answers.
const (
	Yes     Answer = "yes"
	No      Answer = "no"
	Unknown Answer = "unknown"
)

// Report is what was seen.
type Report struct {
	System      string         `json:"system"`
	CPUs        int            `json:"cpus"`
	Memory      lab.Bytes      `json:"memory"`    // 0: not seen
	Available   lab.Bytes      `json:"available"` // memory that is free or can be freed
	Disk        lab.Bytes      `json:"disk"`      // free, where Path is
	Adapters    []Adapter      `json:"adapters"`
	Default     string         `json:"default"` // adapter of the way out; empty: none
	Gateway     netip.Addr     `json:"gateway"` // of the way out
	Routes      []netip.Prefix `json:"routes"`  // networks reached by a route, beside the adapters' own
	Resolvers   []netip.Addr   `json:"resolvers"`
	Accelerated Answer         `json:"accelerated"` // can virtual machines be accelerated?
	Why         string         `json:"why"`         // how that is known
	Unseen      []string       `json:"unseen"`      // what could not be looked at here
}

// Networks returns the IPv4 networks that the machine is on or has routes to,
// each once, without those within another.
func (r *Report) Networks() []netip.Prefix {
	var list []netip.Prefix
	add := func(p netip.Prefix) {
		p = p.Masked()
		if !p.Addr().Is4() || p.Bits() == 0 || p.Addr().IsLoopback() || p.Addr().IsLinkLocalUnicast() ||
			p.Addr().IsMulticast() {
			return
		}
		for _, q := range list {
			if q.Bits() <= p.Bits() && q.Contains(p.Addr()) {
				return
			}
		}
		list = append(
			slices.DeleteFunc(list, func(q netip.Prefix) bool { return p.Bits() <= q.Bits() && p.Contains(q.Addr()) }),
			p,
		)
	}
	for _, a := range r.Adapters {
		for _, p := range a.Addresses {
			add(p)
		}
	}
	for _, p := range r.Routes {
		add(p)
	}
	slices.SortFunc(list, func(a, b netip.Prefix) int { return a.Addr().Compare(b.Addr()) })
	return list
}

// Uplink returns the adapter that a lab's WAN should be bridged to: the one of
// the way out, else the first wired one that is up. ok is false when none is.
func (r *Report) Uplink() (Adapter, bool) {
	for _, a := range r.Adapters {
		if a.Name == r.Default {
			return a, true
		}
	}
	for _, kind := range []Kind{Wired, Wireless} {
		for _, a := range r.Adapters {
			if a.Kind == kind && a.Up {
				return a, true
			}
		}
	}
	return Adapter{}, false
}

// reserve is the memory that the host keeps for itself.
const reserve = 2 * lab.GiB

// Follows returns what the report means for a lab, a sentence each.
func (r *Report) Follows() []string {
	var out []string
	if up, ok := r.Uplink(); !ok {
		out = append(
			out,
			"No adapter is connected to a network: use NAT by the host for the WAN (join: nat), or plug in a cable.",
		)
	} else {
		switch up.Kind {
		case Wired:
			out = append(out, fmt.Sprintf("Bridge the WAN to %s: it is wired, and bridging works there.", up.Name))
		case Wireless:
			out = append(out, fmt.Sprintf("The path outside is %s, which is wireless: most access points refuse bridged machines, so let the host translate (join: nat) or plug a cable in.", up.Name))
		default:
			out = append(out, fmt.Sprintf("The path outside is %s, which is virtual: this machine is a guest or a container itself. Bridging works only where its own host lets foreign addresses pass; else let this machine translate (join: nat).", up.Name))
		}
	}
	out = append(out, "Free for a lab: "+strings.Join(r.free(), ", ")+".")
	switch {
	case r.Available == 0:
	case r.Available <= reserve:
		out = append(
			out,
			fmt.Sprintf("Only %s of memory is free: too little for an appliance and a guest. Close something first.",
				about(r.Available)),
		)
	default:
		n := int((r.Available - reserve) / lab.GiB)
		out = append(
			out,
			fmt.Sprintf(
				"About %s of memory is left for machines when the host keeps %s: an appliance and %d guests of 1GiB.",
				about(r.Available-reserve),
				reserve,
				max(n-1, 0),
			),
		)
	}
	switch r.Accelerated {
	case No:
		out = append(
			out,
			"Virtual machines cannot be accelerated here ("+r.Why+"): they run, several times slower, and waits grow.",
		)
	case Yes:
		out = append(out, "Virtual machines can be accelerated here.")
	}
	return out
}

func about(b lab.Bytes) string {
	if b >= lab.GiB {
		return (b / (lab.GiB / 4) * (lab.GiB / 4)).String()
	}
	return (b / lab.MiB * lab.MiB).String()
}

// free names private space that nothing here uses: a /16 of the large block,
// and what is left of the others (RFC 1918).
func (r *Report) free() []string {
	used := r.Networks()
	var out []string
	for i := range 256 {
		p := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte((83 + i) % 256)}), 16)
		if _, overlaps := subnet.Overlap(p, used); !overlaps {
			out = append(out, p.String())
			break
		}
	}
	for i := range 16 {
		p := netip.PrefixFrom(netip.AddrFrom4([4]byte{172, byte(16 + i)}), 16)
		if _, overlaps := subnet.Overlap(p, used); !overlaps {
			out = append(out, p.String())
			break
		}
	}
	for i := range 156 {
		p := netip.PrefixFrom(netip.AddrFrom4([4]byte{192, 168, byte(100 + i)}), 24)
		if _, overlaps := subnet.Overlap(p, used); !overlaps {
			out = append(out, p.String())
			break
		}
	}
	if out == nil {
		out = []string{"no private range"}
	}
	return out
}

// base fills in what every system tells.
func base() *Report {
	return &Report{
		System: runtime.GOOS + "/" + runtime.GOARCH, CPUs: runtime.NumCPU(), Accelerated: Unknown,
		Adapters: []Adapter{}, Routes: []netip.Prefix{}, Resolvers: []netip.Addr{}, Unseen: []string{},
	}
}
