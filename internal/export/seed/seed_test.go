package seed

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

const text = `bastion: 1
lab: seeds
ipv6: true
segments:
  road: {reach: upstream, subnet: 172.29.64.0/24}
  desks: {reach: isolated, subnet: 10.83.16.0/24}
  tills: {reach: isolated, within: desks, vlan: 48, subnet: 10.83.48.0/25}
appliances:
  gate:
    ports:
      - {role: wan, segment: road}
      - {role: lan, segment: desks, dhcp: {pool: 10.83.16.50-10.83.16.99, domain: desks.example}}
      - {role: lan, name: a-port-with-a-long-name, segment: tills, over: lan}
    nat: {one-to-one: [{outside: 172.29.64.9, inside: ferry}]}
guests:
  heron: desks
  ferry: {segment: desks, reserve: 10.83.16.20}
  gannet: {adapters: [{segment: desks}, {segment: road, static: 172.29.64.30/24, gateway: 172.29.64.1, dns: [172.29.64.1]}], forwards: true}
`

func machine(t *testing.T, p *plan.Plan, name string) (map[string]string, netplan, cloudConfig) {
	files, err := Machine(p, p.Machine(name), "")
	require.NoError(t, err)
	data := map[string][]byte{}
	for _, f := range files {
		data[f.Name] = f.Data
	}
	var n netplan
	require.NoError(t, yaml.Unmarshal(data["network-config"], &n))
	assert.True(t, strings.HasPrefix(string(data["user-data"]), "#cloud-config\n"))
	var c cloudConfig
	require.NoError(t, yaml.Unmarshal(data["user-data"], &c))
	var meta map[string]string
	require.NoError(t, yaml.Unmarshal(data["meta-data"], &meta))
	assert.Equal(t, name, meta["local-hostname"])
	written := map[string]string{}
	for _, f := range c.Files {
		written[f.Path] = f.Content
	}
	return written, n, c
}

// A seed says of each machine what the plan does: addresses by hardware
// address, tags, leases, what is announced.
func TestMachine(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)

	files, n, c := machine(t, p, "gate")
	for _, a := range p.Machine("gate").Own() {
		assert.Equal(t, a.MAC.String(), n.Ethernets[Device(a)].Match.MAC)
		assert.LessOrEqual(t, len(Device(a)), 15)
	}
	assert.True(t, n.Ethernets["wan"].DHCP4)
	assert.Contains(t, n.Ethernets["wan"].Addresses, "172.29.64.9/32")
	six := p.Machine("gate").Adapters[1].Address6
	assert.Equal(t, []string{"10.83.16.1/24", six.String()}, n.Ethernets["lan"].Addresses)
	require.Contains(t, n.VLANs, "lan.48")
	assert.Equal(t, []any{48, "lan"}, []any{n.VLANs["lan.48"].ID, n.VLANs["lan.48"].Link})
	leases := files["/etc/systemd/network/10-netplan-lan.network.d/leases.conf"]
	for _, want := range []string{"DHCPServer=yes", "PoolOffset=50\nPoolSize=50\n", "DNS=10.83.16.1\n", "Router=10.83.16.1\n",
		"SendOption=15:string:desks.example", fmt.Sprintf("MACAddress=%s\nAddress=10.83.16.20\n", p.Machine("ferry").Adapters[0].MAC)} {
		assert.Contains(t, leases, want)
	}
	assert.Contains(
		t,
		files["/etc/systemd/network/10-netplan-lan.network.d/announce.conf"],
		"Prefix="+p.Segment("desks").Subnet6.String(),
	)
	assert.Contains(t, files["/etc/systemd/resolved.conf.d/lab.conf"], "DNSStubListenerExtra=10.83.16.1\n")
	assert.Contains(t, files["/etc/hosts"], "10.83.16.20\tferry.desks.example ferry\n")
	assert.Contains(t, files["/etc/nftables.conf"], `define port_lan = "lan"`)
	assert.Contains(t, files["/etc/sysctl.d/90-lab.conf"], "net.ipv4.ip_forward = 1")
	assert.Contains(t, c.Run, []string{"systemctl", "enable", "--now", "nftables"})

	files, n, _ = machine(t, p, "gannet")
	assert.Equal(t, []string{"172.29.64.30/24"}, n.Ethernets["lab2"].Addresses)
	assert.Equal(t, []route{{"0.0.0.0/0", "172.29.64.1", 200}}, n.Ethernets["lab2"].Routes)
	assert.True(t, n.Ethernets["lab1"].DHCP4)
	assert.Equal(t, &overrides{100}, n.Ethernets["lab1"].Lease, "each path outside has a metric of its own")
	assert.Contains(t, files["/etc/sysctl.d/90-lab.conf"], "net.ipv4.ip_forward = 1")

	_, _, c = machine(t, p, "heron")
	assert.Empty(t, c.Files)
	for _, m := range p.Made() {
		_, n, _ := machine(t, p, m.Name)
		for _, d := range n.Ethernets {
			for _, a := range d.Addresses {
				_, err := netip.ParsePrefix(a)
				assert.NoError(t, err)
			}
		}
	}
}

// Netplan itself takes the configuration of every installed Linux, and refuses nothing of it; a
// session by PPPoE is not replaced by something else.
func TestNetworkFiles(t *testing.T) {
	l, err := lab.Read("lab.yaml", []byte(text))
	require.NoError(t, err)
	l.Profiles = map[string]*lab.Profile{"linux": {System: "linux", Settings: "files"}}
	l.Appliances[0].Profile = "linux"
	p, err := plan.Build(l)
	require.NoError(t, err)
	files, err := NetworkFiles(p)
	require.NoError(t, err)
	roots := map[string]string{}
	for _, f := range files {
		machine, name, _ := strings.Cut(f.Name, "/")
		if roots[machine] == "" {
			roots[machine] = t.TempDir()
		}
		path := filepath.Join(roots[machine], name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, f.Data, 0o600))
	}
	require.Len(t, roots, 4)
	netplan, err := exec.LookPath("netplan")
	if err != nil {
		t.Skip("netplan is not here")
	}
	for machine, root := range roots {
		out, err := exec.Command(netplan, "generate", "--root-dir", root).CombinedOutput()
		require.NoError(t, err, "%s: %s", machine, out)
		made, err := filepath.Glob(filepath.Join(root, "run/systemd/network/*.network"))
		require.NoError(t, err)
		assert.NotEmpty(t, made, machine)
	}
	l.Appliances[0].Ports[0].Address = lab.Address{How: "pppoe"}
	p, err = plan.Build(l)
	require.NoError(t, err)
	_, err = NetworkFiles(p)
	assert.ErrorContains(t, err, "PPPoE")
	_, err = Files(p)
	assert.ErrorContains(t, err, "PPPoE")
}
