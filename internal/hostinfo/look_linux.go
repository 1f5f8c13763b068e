package hostinfo

import (
	"bufio"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/vishvananda/netlink"

	"openbastion/internal/model/lab"
)

// Look surveys the machine; disk space is that where path is.
func Look(path string) *Report {
	r := base()
	miss := func(what string, err error) {
		if err != nil {
			r.Unseen = append(r.Unseen, what+": "+err.Error())
		}
	}
	miss("network adapters", r.links())
	miss("routes", r.routes())
	miss("resolvers", r.resolvers("/etc/resolv.conf"))
	miss("memory", r.memory("/proc/meminfo"))
	var fs syscall.Statfs_t
	if err := syscall.Statfs(path, &fs); err != nil {
		miss("disk space", err)
	} else {
		r.Disk = lab.Bytes(fs.Bavail) * lab.Bytes(fs.Bsize)
	}
	return r
}

func (r *Report) links() error {
	links, err := netlink.LinkList()
	if err != nil {
		return err
	}
	for _, l := range links {
		at := l.Attrs()
		if at.Flags&net.FlagLoopback != 0 {
			continue
		}
		a := Adapter{
			Name: at.Name, Kind: Virtual, Up: at.OperState == netlink.OperUp || at.OperState == netlink.OperUnknown &&
				at.RawFlags&syscall.IFF_UP != 0,
			MAC: at.HardwareAddr.String(), Addresses: []netip.Prefix{},
		}
		sys := filepath.Join("/sys/class/net", at.Name)
		if l.Type() == "device" {
			a.Kind = Wired
			// A bus of a hypervisor, or none: this machine is a guest itself.
			bus, _ := os.Readlink(filepath.Join(sys, "device/subsystem"))
			if target, err := os.Readlink(sys); filepath.Base(bus) == "virtio" ||
				err == nil && strings.Contains(target, "/virtual/") {
				a.Kind = Virtual
			}
		}
		if _, err := os.Stat(filepath.Join(sys, "wireless")); err == nil {
			a.Kind = Wireless
		}
		if data, err := os.ReadFile(filepath.Join(sys, "speed")); err == nil {
			if n, err := strconv.Atoi(strings.TrimSpace(string(data))); err == nil && n > 0 && n < 1<<24 {
				a.Speed = n
			}
		}
		addrs, err := netlink.AddrList(l, netlink.FAMILY_ALL)
		if err != nil {
			return err
		}
		for _, x := range addrs {
			if ip, ok := netip.AddrFromSlice(x.IP); ok {
				bits, _ := x.Mask.Size()
				a.Addresses = append(a.Addresses, netip.PrefixFrom(ip.Unmap(), bits))
			}
		}
		r.Adapters = append(r.Adapters, a)
	}
	return nil
}

func (r *Report) routes() error {
	routes, err := netlink.RouteList(nil, netlink.FAMILY_V4)
	if err != nil {
		return err
	}
	best := -1
	for _, x := range routes {
		if x.Dst == nil || x.Dst.IP.IsUnspecified() {
			if best >= 0 && x.Priority >= best {
				continue
			}
			best = x.Priority
			r.Gateway, _ = netip.AddrFromSlice(x.Gw.To4())
			if l, err := netlink.LinkByIndex(x.LinkIndex); err == nil {
				r.Default = l.Attrs().Name
			}
			continue
		}
		if ip, ok := netip.AddrFromSlice(x.Dst.IP.To4()); ok {
			bits, _ := x.Dst.Mask.Size()
			r.Routes = append(r.Routes, netip.PrefixFrom(ip, bits))
		}
	}
	return nil
}

func (r *Report) resolvers(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) > 1 && words[0] == "nameserver" {
			if a, err := netip.ParseAddr(words[1]); err == nil {
				r.Resolvers = append(r.Resolvers, a)
			}
		}
	}
	return lines.Err()
}

func (r *Report) memory(file string) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(data)) {
		words := strings.Fields(line)
		if len(words) < 2 {
			continue
		}
		n, err := strconv.ParseInt(words[1], 10, 64)
		if err != nil {
			continue
		}
		switch words[0] {
		case "MemTotal:":
			r.Memory = lab.Bytes(n) * lab.KiB
		case "MemAvailable:":
			r.Available = lab.Bytes(n) * lab.KiB
		}
	}
	return nil
}
