package boot

import (
	"bytes"
	"debug/elf"
	"fmt"
	"strings"
)

// Module is a module as it is loaded.
type Module struct {
	Name string
	Data []byte
}

// Wanted are the modules that machines of a lab are served by: adapters, the channels to
// the program, the power button, tags, and the packet filter. A kernel that has one in
// itself needs no file for it.
var Wanted = []string{
	"virtio_pci", "virtio_net", "virtio_console", "button", "evdev", "e1000", "e1000e",
	"8021q", "nf_tables", "nft_chain_nat", "nft_masq", "nft_nat", "nft_redir", "nft_ct", "nft_fib_inet", "nft_reject_inet", "nft_log",
	"nft_limit",
	"nft_numgen", "nf_conntrack_netlink", "nfnetlink_log",
}

// Keep reports whether it is the modules that may be needed for those that are wanted: by the names of all
// that those depend on, of which no list is at hand before they are read.
func Keep(name string) bool {
	for _, w := range Wanted {
		if name == Normal(w) {
			return true
		}
	}
	for _, beginning := range []string{"virtio", "failover", "net_failover", "nf_", "nft_", "nfnetlink", "libcrc32c", "mrp", "garp", "stp",
		"llc",
		"crc32c", "x_tables", "ptp", "pps_core"} {
		if strings.HasPrefix(name, beginning) {
			return true
		}
	}
	return false
}

// Order returns the wanted modules of a kernel and all that they depend on, each after those
// that it needs. What the kernel has in itself, and what it does not have at all, is left
// out: what needs it says so when it is used.
func (k *Kernel) Order(wanted []string) ([]Module, error) {
	var out []Module
	seen := map[string]bool{}
	var take func(name string) error
	take = func(name string) error {
		name = Normal(name)
		data := k.Modules[name]
		if seen[name] || data == nil {
			return nil
		}
		seen[name] = true
		needs, err := depends(data)
		if err != nil {
			return fmt.Errorf("module %s: %w", name, err)
		}
		for _, n := range needs {
			if err := take(n); err != nil {
				return err
			}
		}
		out = append(out, Module{name, data})
		return nil
	}
	for _, name := range wanted {
		if err := take(name); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// depends reads what a module says that it needs: "depends=a,b" of its section .modinfo.
// What it would rather have loaded before ("softdep=pre: a b") is counted as well.
func depends(module []byte) ([]string, error) {
	f, err := elf.NewFile(bytes.NewReader(module))
	if err != nil {
		return nil, err
	}
	section := f.Section(".modinfo")
	if section == nil {
		return nil, fmt.Errorf("it has no section .modinfo")
	}
	text, err := section.Data()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, entry := range strings.Split(string(text), "\x00") {
		if list, ok := strings.CutPrefix(entry, "depends="); ok && list != "" {
			out = append(out, strings.Split(list, ",")...)
		}
		if list, ok := strings.CutPrefix(entry, "softdep=pre:"); ok {
			out = append(out, strings.Fields(list)...)
		}
	}
	return out, nil
}
