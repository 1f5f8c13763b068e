package libvirt

import (
	"encoding/xml"
	"errors"
	"fmt"

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
	for _, s := range p.Segments {
		if s.Nowhere() || s.Tag > 0 {
			continue
		}
		n, err := networkOf(p, s)
		add("network-"+s.Name+".xml", n, err)
		script += fmt.Sprintf(
			"virsh net-define network-%s.xml\nvirsh net-autostart %s\nvirsh net-start %[2]s || true\n",
			s.Name,
			n.Name,
		)
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
