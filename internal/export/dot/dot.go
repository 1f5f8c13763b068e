// Package dot writes a plan as a graph in the DOT language: segments and
// machines as nodes, adapters as edges.
package dot

import (
	"bytes"
	"fmt"
	"strconv"

	"openbastion/internal/export/fileset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// Graph returns the graph.
func Graph(p *plan.Plan) fileset.File {
	var b bytes.Buffer
	q := strconv.Quote
	fmt.Fprintf(
		&b,
		"graph %s {\n  graph [rankdir=TB]\n  node [fontname=\"sans-serif\", shape=box]\n  outside [label=\"outside\", style=rounded, color=\"#0a62c0\"]\n",
		q(p.Name),
	)
	for _, s := range p.Segments {
		color := "#8a5a00"
		if s.Reach == lab.Upstream {
			color = "#0a62c0"
			fmt.Fprintf(&b, "  outside -- %s\n", q("segment "+s.Name))
		}
		label := s.Name + "\n" + s.SubnetText()
		if s.Tag != 0 {
			label += fmt.Sprintf("\ntag %d on %s", s.Tag, s.Wire.Name)
		}
		fmt.Fprintf(&b, "  %s [label=%s, color=%q, penwidth=2]\n", q("segment "+s.Name), q(label), color)
	}
	for _, m := range p.Machines {
		shape := "box"
		if m.Appliance != nil {
			shape = "box3d"
		}
		fmt.Fprintf(&b, "  %s [label=%s, shape=%s]\n", q("machine "+m.Name), q(m.Name), shape)
	}
	for _, a := range p.Adapters {
		style := "solid"
		if a.Over != nil {
			style = "dashed"
		}
		from, to := "segment "+a.Segment.Name, "machine "+a.Machine.Name
		if a.Segment.Nowhere() {
			from, style = "no segment", "dotted"
		}
		if a.Role.Inside() || a.Role == lab.Manage {
			from, to = to, from // the ranks follow the way inwards
		}
		fmt.Fprintf(&b, "  %s -- %s [label=%s, style=%s]\n", q(from), q(to),
			q(fmt.Sprintf("%d %s\n…%s %s", a.Number, a.Name, a.MAC.Tail(2), a.Shown())), style)
	}
	b.WriteString("}\n")
	return fileset.File{Name: p.Name + ".dot", Data: b.Bytes()}
}
