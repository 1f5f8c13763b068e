package listing

import (
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
)

// readJSON reads what Linux's ip writes when it is asked for JSON; nothing for
// any other text.
func readJSON(text string) []Interface {
	if !strings.HasPrefix(strings.TrimSpace(text), "[") {
		return nil
	}
	var list []struct {
		Name    string   `json:"ifname"`
		Kind    string   `json:"link_type"`
		Address string   `json:"address"`
		State   string   `json:"operstate"`
		Flags   []string `json:"flags"`
		Has     []struct {
			Family string `json:"family"`
			Local  string `json:"local"`
			Bits   int    `json:"prefixlen"`
		} `json:"addr_info"`
	}
	if json.Unmarshal([]byte(text), &list) != nil {
		return nil
	}
	var out []Interface
	for _, x := range list {
		if x.Name == "" || x.Name == "lo" || x.Kind == "loopback" || len(out) == maxInterfaces {
			continue
		}
		i := Interface{Device: x.Name, Tail: digits(x.Address), Line: 1}
		switch {
		case x.State == "DOWN", slices.Contains(x.Flags, "NO-CARRIER"):
			i.Link = LinkDown
		case x.State == "UP", slices.Contains(x.Flags, "LOWER_UP"):
			i.Link = LinkUp
		}
		for _, h := range x.Has {
			if a, err := netip.ParseAddr(h.Local); err == nil && a.Is4() {
				i.Addresses = append(i.Addresses, netip.PrefixFrom(a, h.Bits))
			}
		}
		out = append(out, i)
	}
	return out
}
