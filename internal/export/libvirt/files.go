package libvirt

import (
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"strings"

	"openbastion/internal/export/fileset"
	"openbastion/internal/model/plan"
)

// Files returns the definitions of a plan's networks and machines, and a script that defines them. It fails where a
// network cannot be made there as planned.
func Files(p *plan.Plan) (out []fileset.File, err error) {
	var failed []error
	add := func(name string, v any, err error) {
		if err != nil {
			failed = append(failed, err)
			return
		}
		data, err := xml.MarshalIndent(v, "", "  ")
		failed = append(failed, err)
		out = append(out, fileset.File{Name: name, Data: append(data, '\n')})
	}
	script := "#!/bin/sh\n# Define the networks and machines of " + p.Name + "; a second run replaces them.\n" +
		"# The disks are made first, in the pool default: virsh vol-create-as default NAME.qcow2 SIZE --format qcow2\nset -eu\n"
	for _, s := range networks(p) {
		n, err := networkOf(p, s)
		file := "network-" + fileOf(s) + ".xml"
		add(file, n, err)
		script += fmt.Sprintf("virsh net-define %s\nvirsh net-autostart %s\nvirsh net-start %[2]s || true\n", file, n.Name)
	}
	if closed := closing(p); closed != nil {
		out = append(out, fileset.File{Name: closingFile, Data: closed})
		script += "# Once more after each start of the networks: their bridges are new then.\n" +
			"if command -v nft >/dev/null; then nft -f " + closingFile + "; else echo '" + closingFile +
			" is not loaded: nft is not here'; fi\n"
	}
	for _, m := range p.Machines {
		if m.Physical {
			continue
		}
		d, err := domainOf(p, m)
		add("domain-"+m.Name+".xml", d, err)
		script += fmt.Sprintf("virsh define --validate domain-%s.xml\n", m.Name)
		if m.Spec.Autostart {
			script += "virsh autostart " + d.Name + "\n"
		}
	}
	if err := errors.Join(failed...); err != nil {
		return nil, err
	}
	return append(out, fileset.File{Name: "define.sh", Data: []byte(script)}), nil
}

// networks returns the segments that are networks of the host: each that is not tagged on another, and what adapters
// that are on none yet are attached to, with their links down.
func networks(p *plan.Plan) []*plan.Segment {
	out := slices.DeleteFunc(slices.Clone(p.Segments), func(s *plan.Segment) bool { return s.Nowhere() || s.Tag > 0 })
	for _, a := range p.Adapters {
		if a.Segment.Nowhere() && !a.Machine.Physical {
			return append(out, a.Segment)
		}
	}
	return out
}

// closingFile is the name of the rules that close isolated networks to the host.
const closingFile = "closed.nft"

// closing returns rules by which the host takes nothing in from isolated networks; nil where there are none.
func closing(p *plan.Plan) []byte {
	table := "openbastion_" + strings.ReplaceAll(p.Name, "-", "_")
	var chains strings.Builder
	for _, s := range p.Segments {
		if s.Closed() {
			fmt.Fprintf(&chains, "\tchain %s {\n\t\ttype filter hook ingress device \"%s\" priority 0; policy drop;\n\t}\n",
				strings.ReplaceAll(s.Name, "-", "_"), device(p, s))
		}
	}
	if chains.Len() == 0 {
		return nil
	}
	return fmt.Appendf(nil, `# A network without an address is not closed to its own host: the host answers ARP there for each of its addresses,
# and takes in what is sent to them. These rules drop what comes to the host itself; guests reach one another as before.
add table netdev %[1]s
delete table netdev %[1]s
table netdev %[1]s {
%[2]s}
`, table, chains.String())
}
