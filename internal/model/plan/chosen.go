package plan

import (
	"fmt"
	"slices"
)

// Chosen returns what the plan chose for some adapters and the lab file does not give, a line each: networks, addresses,
// pools and MAC addresses.
func Chosen(of []*Adapter) []string {
	var out []string
	add := func(format string, args ...any) {
		if line := fmt.Sprintf(format, args...); !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	for _, a := range of {
		if s := a.Segment; s.Planned && s.Subnet.IsValid() {
			add("network of %s: %s", s.Name, s.Subnet)
		}
		name := a.Machine.Name + "." + a.Name
		if a.Guest != nil {
			name = fmt.Sprintf("%s adapter %d", a.Machine.Name, a.Number)
		}
		if a.Planned && a.Address.IsValid() {
			add("address of %s: %s", name, a.Address)
		}
		if a.Leases != nil && a.Leases.Planned {
			add("pool of %s: %s", a.Segment.Name, a.Leases.Pool)
		}
		if !a.MACGiven && a.Over == nil {
			add("MAC address of %s: %s", name, a.MAC)
		}
	}
	return out
}

// ChosenComment returns the lines of [Chosen] as a comment of a configuration file, each behind a mark such as "#";
// empty where nothing was chosen.
func ChosenComment(of []*Adapter, mark string) string {
	list := Chosen(of)
	if len(list) == 0 {
		return ""
	}
	text := mark + " Chosen by the plan, not given in the lab file:\n"
	for _, line := range list {
		text += mark + "   " + line + "\n"
	}
	return text
}
