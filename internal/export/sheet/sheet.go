// Package sheet writes a plan's address book as comma-separated values (RFC
// 4180), for spreadsheets.
package sheet

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strings"

	"openbastion/internal/export/fileset"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/subnet"
)

// Book returns the address book.
func Book(p *plan.Plan) fileset.File {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	_ = w.Write([]string{"name", "segment", "address", "mask", "how", "gateway", "resolvers", "MAC address", "planned"})
	for i, d := range p.Document().Addresses {
		mask, hardware := "", ""
		if _, length, ok := strings.Cut(d.Address, "/"); ok {
			n := 0
			_, _ = fmt.Sscan(length, &n)
			mask = subnet.Mask(n)
		}
		if i < len(p.Adapters) {
			hardware = p.Adapters[i].MAC.String()
		}
		_ = w.Write(
			[]string{d.Name, d.Segment, d.Address, mask, string(d.How), d.Gateway, strings.Join(d.DNS, " "), hardware,
				fmt.Sprint(d.Planned)},
		)
	}
	w.Flush()
	return fileset.File{Name: p.Name + ".csv", Data: b.Bytes()}
}
