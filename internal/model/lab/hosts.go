package lab

// Hosts is what a hosts file says: the benches of a class, copies of one lab, each with a
// number of its own, and the machines that carry them.
type Hosts struct {
	Origin
	File    string
	Version int
	Benches int // how many copies
	Share   int // how many planned processors one of a host's stands for
	List    []*Carrier
}

// Carrier is one machine that carries benches.
type Carrier struct {
	Origin
	Name   string
	SSH    string // what the user's SSH client is told to reach it by
	CPUs   int
	Memory Bytes // what it has for benches
}

// The bounds of a class.
const (
	MaxBenches = 5000
	MaxShare   = 64
)

// sharing is how many planned processors one of a host's stands for when nobody says:
// machines of a bench wait most of the time.
const sharing = 4

// ReadHosts reads a hosts file. The error is of type [Faults].
func ReadHosts(file string, data []byte) (*Hosts, error) {
	r := &reader{file: file, data: data}
	root := r.parse()
	if root == nil {
		return nil, r.faults
	}
	h := &Hosts{File: file, Benches: 1, Share: sharing}
	readObject(r, root, "the hosts file", hostsFields(), h)
	if h.Version == 0 && !h.Has("bastion-hosts") {
		r.fail(Pos{Line: 1, Column: 1}, "the format version is missing; write `bastion-hosts: 1` as the first line")
	}
	if h.Has("bastion-hosts") && len(h.List) == 0 && len(r.faults) == 0 {
		r.fail(
			Pos{Line: 1, Column: 1},
			"no host is named; write each below `hosts:`, as `kiln: {ssh: kiln.example, cpus: 16, memory: 64GiB}`",
		)
	}
	for _, one := range h.List {
		for _, key := range []string{"cpus", "memory"} {
			if !one.Has(key) {
				r.fail(one.Pos, "host %s has no capacity; write `%s: …`", one.Name, key)
			}
		}
		if len(one.SSH) > 0 && one.SSH[0] == '-' {
			r.fail(
				one.At("ssh"),
				"%q is an option of an SSH client, not a host; write its name, as teacher@kiln.example",
				shorten(one.SSH),
			)
		}
	}
	if len(r.faults) > 0 {
		return nil, r.faults.sorted()
	}
	for _, one := range h.List {
		if one.SSH == "" {
			one.SSH = one.Name
		}
	}
	return h, nil
}

func hostsFields() []field[Hosts] {
	return []field[Hosts]{
		intField(
			"bastion-hosts",
			"Version of the hosts file's format.",
			1,
			1,
			func(h *Hosts) *int { return &h.Version },
		),
		intField(
			"benches",
			"How many copies of the lab there are.",
			1,
			MaxBenches,
			func(h *Hosts) *int { return &h.Benches },
		),
		intField("share", "Planned processors per processor of the host (default: 4).", 1, MaxShare,
			func(h *Hosts) *int { return &h.Share }),
		namedField("hosts", "host", "The machines that carry the benches, by name.", []field[Carrier]{
			textField(
				"ssh",
				"The SSH client's name for it (default: its name).",
				func(h *Carrier) *string { return &h.SSH },
			),
			intField(
				"cpus",
				"How many processors it has for benches.",
				1,
				4096,
				func(h *Carrier) *int { return &h.CPUs },
			),
			bytesField("memory", "Memory for benches.", func(h *Carrier) *Bytes { return &h.Memory }),
		}, func(h *Hosts, name string) *Carrier {
			one := &Carrier{Name: name}
			h.List = append(h.List, one)
			return one
		}, nil),
	}
}

// HostsSchema returns the JSON Schema (2020-12) of hosts files.
func HostsSchema() map[string]any {
	s := form{
		Type:       "object",
		Properties: properties(hostsFields()),
		Required:   []string{"bastion-hosts", "hosts"},
	}.schema()
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Open Bastion hosts of a class, format 1"
	return s
}
