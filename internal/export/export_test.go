package export

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/atomicfile"
	"openbastion/internal/export/fileset"
	"openbastion/internal/format/iso"
	"openbastion/internal/format/ovf"
	"openbastion/internal/format/sums"
	"openbastion/internal/model/draft"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// labs returns the examples, every shape, and one with all that exports speak of.
func labs(t *testing.T) map[string]*plan.Plan {
	out := map[string]*plan.Plan{}
	add := func(name string, text []byte) {
		l, err := lab.Read(name, text)
		require.NoError(t, err, name)
		p, err := plan.Build(l)
		require.NoError(t, err, name)
		out[name] = p
	}
	for _, name := range []string{"saltmarsh", "saltmarsh-leaky"} {
		text, err := examples.Labs.ReadFile(name + ".yaml")
		require.NoError(t, err)
		add(name, text)
		add(name+"-six", bytes.Replace(text, []byte("\nsegments:"), []byte("\nipv6: true\nsegments:"), 1))
	}
	for _, s := range draft.Shapes {
		o := draft.Options{}
		o.Lab, o.Shape, o.Guests = "bench", s.Name, 3
		text, err := draft.Write(o)
		require.NoError(t, err)
		add("bench-"+s.Name, text)
	}
	return out
}

// judge runs a program that must be content with files; where it is not here
// that is said and nothing is judged.
func judge(t *testing.T, name string, args ...string) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		path = "/usr/sbin/" + name
		if _, err := os.Stat(path); err != nil {
			t.Logf("%s is not here to judge", name)
			return
		}
	}
	out, err := exec.Command(path, args...).CombinedOutput()
	assert.NoError(t, err, "%s %v\n%s", name, args, out)
}

// Every kind of every lab is taken by the program that it is for.
func TestExports(t *testing.T) {
	for name, p := range labs(t) {
		t.Run(name, func(t *testing.T) {
			for _, k := range Kinds() {
				files, err := k.Files(p)
				if k.Name == "libvirt" && err != nil { // not everything that is planned can be made there
					assert.Regexp(t, "gives no port a VLAN|is unknown|does not say which", err)
					continue
				}
				require.NoError(t, err, k.Name)
				again, err := k.Files(p)
				require.NoError(t, err)
				assert.Equal(t, files, again, "%s: the same plan gives the same files", k.Name)
				dir := t.TempDir()
				require.NoError(t, fileset.Write(dir, files, false), k.Name)
				assert.ErrorIs(
					t,
					fileset.Write(dir, files[:min(1, len(files))], false),
					map[bool]error{true: atomicfile.ErrThere}[len(files) > 0],
				)
				for _, f := range files {
					checkFile(t, p, k.Name, filepath.Join(dir, f.Name), f)
				}
			}
		})
	}
}

func checkFile(t *testing.T, p *plan.Plan, kind, path string, f fileset.File) {
	switch {
	case kind == "libvirt" && strings.HasSuffix(f.Name, ".xml"):
		const schemas = "/usr/share/libvirt/schemas"
		if _, err := os.Stat(schemas); err == nil {
			of, _, _ := strings.Cut(f.Name, "-")
			judge(t, "xmllint", "--noout", "--relaxng", filepath.Join(schemas, of+".rng"), path)
		}
	case kind == "job" && strings.HasSuffix(f.Name, ".sbatch"):
		judge(t, "shellcheck", path)
	case kind == "zone":
		judge(t, "named-checkzone", "-q", strings.TrimSuffix(f.Name, ".zone"), path)
	case strings.HasSuffix(f.Name, "dhcpd.conf"):
		require.NoError(t, os.WriteFile(path+".leases", nil, 0o600))
		judge(t, "dhcpd", "-t", "-4", "-q", "-cf", path, "-lf", path+".leases")
	case strings.HasSuffix(f.Name, "kea-dhcp4.conf"):
		// Its check wants the interfaces to be there: it gets stand-ins, in a namespace of its own.
		var c struct {
			Dhcp4 struct {
				Interfaces struct{ Interfaces []string } `json:"interfaces-config"`
			}
		}
		require.NoError(t, json.Unmarshal(f.Data, &c))
		if os.Geteuid() != 0 || exec.Command("unshare", "-n", "true").Run() != nil {
			return
		}
		script := "set -e\n"
		for _, i := range c.Dhcp4.Interfaces.Interfaces {
			if strings.Contains(script, "'"+i+"'") {
				continue
			}
			script += fmt.Sprintf("ip link add name '%s' type bridge\n", i)
		}
		if _, err := exec.LookPath("kea-dhcp4"); err == nil {
			judge(t, "unshare", "-n", "sh", "-c", script+"kea-dhcp4 -t "+path)
		}
	case strings.HasSuffix(f.Name, "user-data"):
		if _, err := exec.LookPath("cloud-init"); err == nil && strings.HasPrefix(f.Name, p.Appliances()[0].Name) {
			judge(t, "cloud-init", "schema", "--config-file", path)
		}
		assert.NotContains(t, strings.ToLower(string(f.Data)), "passw")
	case strings.HasSuffix(f.Name, "network-config"):
		m := p.Machine(filepath.Dir(f.Name))
		for _, a := range m.Own() {
			assert.Contains(t, string(f.Data), a.MAC.String())
		}
	case kind == "seed" && strings.HasSuffix(f.Name, ".iso"):
		info, err := iso.Read(bytes.NewReader(f.Data), int64(len(f.Data)))
		require.NoError(t, err)
		assert.Equal(t, "cidata", info.Volume)
		if _, err := exec.LookPath("isoinfo"); err == nil {
			for _, name := range []string{"user-data", "meta-data", "network-config"} {
				out, err := exec.Command("isoinfo", "-J", "-i", path, "-x", "/"+name).Output()
				require.NoError(t, err)
				want, err := os.ReadFile(filepath.Join(strings.TrimSuffix(path, ".iso"), name))
				require.NoError(t, err)
				assert.Equal(t, string(want), string(out), name)
			}
		}
		judge(t, "xorriso", "-abort_on", "WARNING", "-indev", path, "-find", "/", "-exec", "report_lba", "--")
	case kind == "diagram":
		judge(t, "dot", "-Tsvg", "-o", path+".svg", path)
	case kind == "yang":
		checkYang(t, path, f)
	case strings.HasSuffix(f.Name, ".ovf"):
		judge(t, "xmllint", "--noout", path)
		checkDescriptor(t, p, f)
	case strings.HasSuffix(f.Name, ".mf"):
		list, err := sums.Read("", f.Data)
		require.NoError(t, err)
		data, err := os.ReadFile(strings.TrimSuffix(path, ".mf") + ".ovf")
		require.NoError(t, err)
		require.Len(t, list.Sums, 1)
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(data)), list.Sums[0].Digest)
	case strings.HasSuffix(f.Name, ".ova"):
		r := tar.NewReader(bytes.NewReader(f.Data))
		h, err := r.Next()
		require.NoError(t, err)
		assert.True(t, strings.HasSuffix(h.Name, ".ovf"))
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		checkDescriptor(t, p, fileset.File{Name: h.Name, Data: data})
	case kind == "sheet":
		for _, a := range p.Adapters {
			assert.Contains(t, string(f.Data), a.MAC.String())
		}
	}
}

// checkDescriptor reads a descriptor back: it says what the plan does.
func checkDescriptor(t *testing.T, p *plan.Plan, f fileset.File) {
	got, err := ovf.Read(f.Data)
	require.NoError(t, err, f.Name)
	if strings.HasSuffix(f.Name, "-lab.ovf") {
		assert.Len(t, got.Systems, len(p.Order))
	}
	for _, s := range got.Systems {
		m := p.Machine(s.Name)
		require.NotNil(t, m, s.Name)
		assert.Contains(t, []string{"Linux, 64 bits", "BSD, 64 bits", ""}, s.Guest)
		assert.NotEqual(
			t,
			m.Guest != nil && m.Guest.System == "" || m.Appliance != nil && m.Profile.System != "",
			s.Guest == "",
			s.Name,
		)
		assert.Equal(t, m.Spec.CPUs, s.CPUs)
		assert.Equal(t, int64(m.Spec.Memory), s.Memory)
		require.Len(t, s.Adapters, len(m.Own()))
		for i, a := range m.Own() {
			if a.Segment.Nowhere() {
				assert.Empty(t, s.Adapters[i].Network)
				continue
			}
			assert.Equal(t, a.Segment.Name, s.Adapters[i].Network)
			assert.Equal(t, a.MAC.String(), s.Adapters[i].MAC)
			assert.Equal(t, a.NIC, s.Adapters[i].Model)
			assert.Equal(t, a.Plugged && !a.Later(), s.Adapters[i].Plugged)
			assert.True(
				t,
				slices.ContainsFunc(got.Networks, func(n ovf.Network) bool { return n.Name == a.Segment.Name }),
			)
		}
		if m.Spec.Disk > 0 {
			assert.Equal(t, int64(m.Spec.Disk), s.Drives[0].Size)
			assert.Equal(t, m.Spec.DiskBus, s.Drives[0].Bus)
		}
	}
}

// checkYang has the models that Debian carries judge interfaces and addresses;
// translation and access lists it has no models for.
func checkYang(t *testing.T, path string, f fileset.File) {
	var all map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(f.Data, &all))
	const models = "/usr/share/yuma/"
	if _, err := os.Stat(models); err != nil {
		t.Log("the models are not here to judge")
		return
	}
	part, err := json.Marshal(
		map[string]json.RawMessage{"ietf-interfaces:interfaces": all["ietf-interfaces:interfaces"]},
	)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, part, 0o600))
	judge(t, "yanglint", "-p", models+"nmda-modules/ietf", "-p", models+"modules/ietf",
		models+"nmda-modules/ietf/ietf-interfaces@2018-02-20.yang", models+"nmda-modules/ietf/ietf-ip@2018-02-22.yang",
		models+"modules/ietf/iana-if-type@2014-05-08.yang", "-t", "config", path)
}
