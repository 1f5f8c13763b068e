package lab

import (
	"fmt"
	"strings"
)

// Needs is what an image asks of its machine.
type Needs struct {
	Origin
	CPUs      int
	Memory    Bytes
	Disk      Bytes
	NICs      []string
	DiskBuses []string
}

// Keys returns the keys of needs: that are known, each with its value, as a lab
// file has them.
func (n Needs) Keys() [][2]string {
	var keys [][2]string
	add := func(key, value string, known bool) {
		if known {
			keys = append(keys, [2]string{key, value})
		}
	}
	list := func(v []string) string {
		var out []string
		for _, x := range v {
			out = append(out, Value(x))
		}
		return "[" + strings.Join(out, ", ") + "]"
	}
	add("cpus", fmt.Sprint(n.CPUs), n.CPUs > 0)
	add("memory", n.Memory.String(), n.Memory > 0)
	add("disk", n.Disk.String(), n.Disk > 0)
	add("nics", list(n.NICs), len(n.NICs) > 0)
	add("disk-buses", list(n.DiskBuses), len(n.DiskBuses) > 0)
	return keys
}
