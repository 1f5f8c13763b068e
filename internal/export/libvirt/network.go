package libvirt

import (
	"crypto/sha1"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"net"
	"net/netip"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// namespace is that of the metadata by which a definition is known as a lab's.
const namespace = "urn:openbastion:lab:1"

// origin says what a definition was made from.
type origin struct {
	XMLName     xml.Name `xml:"o:lab"`
	Space       string   `xml:"xmlns:o,attr"`
	Lab         string   `xml:"lab,attr"`
	Name        string   `xml:"name,attr"`
	Fingerprint string   `xml:"plan,attr"`
}

type metadata struct {
	Of origin
}

type network struct {
	XMLName  xml.Name `xml:"network"`
	Name     string   `xml:"name"`
	UUID     string   `xml:"uuid"`
	Metadata metadata `xml:"metadata"`
	Forward  *forward `xml:"forward"`
	Bridge   *bridge  `xml:"bridge"`
	IP       *ip      `xml:"ip"`
}

type forward struct {
	Mode      string     `xml:"mode,attr"`
	Interface *forwardBy `xml:"interface"`
}

type forwardBy struct {
	Device string `xml:"dev,attr"`
}

type bridge struct {
	Name  string `xml:"name,attr"`
	STP   string `xml:"stp,attr"`
	Delay int    `xml:"delay,attr"`
}

type ip struct {
	Address string `xml:"address,attr"`
	Mask    string `xml:"netmask,attr"`
	DHCP    *dhcp  `xml:"dhcp"`
}

type dhcp struct {
	Range dhcpRange `xml:"range"`
}

type dhcpRange struct {
	From netip.Addr `xml:"start,attr"`
	To   netip.Addr `xml:"end,attr"`
}

// id returns a UUID that the same lab and name always have (RFC 9562, section 5.5).
func id(p *plan.Plan, kind, name string) string {
	sum := sha1.Sum([]byte(namespace + "/" + p.Name + "/" + kind + "/" + name))
	b := sum[:16]
	b[6], b[8] = b[6]&0x0f|0x50, b[8]&0x3f|0x80
	text := hex.EncodeToString(b)
	return text[:8] + "-" + text[8:12] + "-" + text[12:16] + "-" + text[16:20] + "-" + text[20:]
}

// device returns the name of a bridge, which the kernel bounds to 15 characters.
func device(p *plan.Plan, s *plan.Segment) string {
	sum := sha1.Sum([]byte(p.Name + "/" + s.Name))
	return "ob-" + hex.EncodeToString(sum[:5])
}

func madeFrom(p *plan.Plan, name string) metadata {
	return metadata{origin{Space: namespace, Lab: p.Name, Name: name, Fingerprint: p.Fingerprint()}}
}

// unattached names the network of adapters that are on no segment.
const unattached = "unattached"

// fileOf returns the name by which a segment's files are called.
func fileOf(s *plan.Segment) string {
	if s.Nowhere() {
		return unattached
	}
	return s.Name
}

// called returns what a segment's network is called there: the name that the lab file says the hypervisor has, else one
// that tells the lab.
func called(p *plan.Plan, s *plan.Segment) string {
	if s.Lab.KnownAs != "" {
		return s.Lab.KnownAs
	}
	return p.Name + "-" + fileOf(s)
}

// networkOf returns the network of a segment. An isolated one has no address: then nobody serves there.
func networkOf(p *plan.Plan, s *plan.Segment) (network, error) {
	n := network{Name: called(p, s), UUID: id(p, "network", s.Name), Metadata: madeFrom(p, fileOf(s))}
	n.Bridge = &bridge{device(p, s), "off", 0}
	switch {
	case s.Reach == lab.Isolated:
		return n, nil
	case s.Reach == lab.Upstream && s.Lab.Join != "nat":
		if s.Lab.Uplink == "" {
			return n, fmt.Errorf(
				"%s is bridged to the host's uplink, and the lab file does not say which (key uplink)",
				s.Name,
			)
		}
		n.Bridge, n.Forward = nil, &forward{Mode: "bridge", Interface: &forwardBy{s.Lab.Uplink}}
		return n, nil
	case s.Reach == lab.Upstream:
		n.Forward = &forward{Mode: "nat"}
	}
	at := s.HostLeg
	if s.Reach == lab.Upstream {
		if s.Unknown() || !s.Gateway.IsValid() {
			return n, fmt.Errorf("the network of %s is unknown (keys subnet and gateway)", s.Name)
		}
		at = netip.PrefixFrom(s.Gateway, s.Subnet.Bits())
	}
	if at.IsValid() {
		n.IP = &ip{Address: at.Addr().String(), Mask: net.IP(net.CIDRMask(at.Bits(), 32)).String()}
		if pool := s.HostPool; pool != nil {
			n.IP.DHCP = &dhcp{dhcpRange{pool.From, pool.To}}
		}
	}
	return n, nil
}
