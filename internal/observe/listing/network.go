package listing

import (
	"encoding/xml"
	"io"
	"net/netip"
	"strings"

	"openbastion/internal/model/subnet"
)

// Network is the definition of a virtual network, as a machine manager shows it.
type Network struct {
	Name    string
	Forward string // nat, route, open, bridge …; empty: nowhere
	Bridge  string
	Uplinks []string       // the host's adapters that it is bridged to, or lets out by
	Address []netip.Prefix // of the host on it
	DHCP    bool
}

// definition is a network's definition as libvirt writes it (network.rng).
type definition struct {
	Name    string `xml:"name"`
	Forward *struct {
		Mode       string `xml:"mode,attr"`
		Device     string `xml:"dev,attr"`
		Interfaces []struct {
			Device string `xml:"dev,attr"`
		} `xml:"interface"`
	} `xml:"forward"`
	Bridge struct {
		Name string `xml:"name,attr"`
	} `xml:"bridge"`
	IP []struct {
		Address string `xml:"address,attr"`
		Mask    string `xml:"netmask,attr"`
		Prefix  string `xml:"prefix,attr"`
		DHCP    *struct {
			Range []struct{} `xml:"range"`
		} `xml:"dhcp"`
	} `xml:"ip"`
}

// Networks returns the definitions of networks in a text: libvirt's, one after another.
func Networks(text string) (out []Network) {
	for {
		at := strings.Index(text, "<network")
		if at < 0 {
			return out
		}
		text = text[at:]
		if rest := text[len("<network"):]; rest == "" || !strings.ContainsAny(rest[:1], " >\t\r\n") {
			text = rest
			continue
		}
		d := xml.NewDecoder(strings.NewReader(text))
		d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
		var of definition
		if d.Decode(&of) == nil && of.Name != "" {
			out = append(out, of.network())
			text = text[d.InputOffset():]
			continue
		}
		text = text[len("<network"):]
	}
}

func (d definition) network() Network {
	n := Network{Name: strings.TrimSpace(d.Name), Bridge: d.Bridge.Name}
	if f := d.Forward; f != nil {
		n.Forward = f.Mode
		if n.Forward == "" {
			n.Forward = "nat" // what it is when nothing is said
		}
		if f.Device != "" {
			n.Uplinks = append(n.Uplinks, f.Device)
		}
		for _, i := range f.Interfaces {
			n.Uplinks = append(n.Uplinks, i.Device)
		}
	}
	for _, x := range d.IP {
		at, err := netip.ParseAddr(x.Address)
		if err != nil {
			continue
		}
		length := 0
		if mask, err := netip.ParseAddr(x.Mask); err == nil && mask.Is4() && subnet.IsMask(mask) {
			length = subnet.MaskLength(mask)
		} else if p, err := netip.ParsePrefix(x.Address + "/" + x.Prefix); err == nil {
			length = p.Bits()
		}
		if length > 0 {
			n.Address = append(n.Address, netip.PrefixFrom(at, length))
		}
		n.DHCP = n.DHCP || x.DHCP != nil && len(x.DHCP.Range) > 0
	}
	return n
}
