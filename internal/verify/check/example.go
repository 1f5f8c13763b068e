package check

import (
	"net/netip"
	"strings"
	"sync"
)

// factory is the inside network that the examples' appliance has before it is
// set up.
var factory = netip.PrefixFrom(netip.AddrFrom4([4]byte{192, 168, 77, 1}), 24)

// base is the example lab that the catalogue's pages change: it has no
// finding.
const base = `bastion: 1
lab: mudflat
site:
  networks: [203.0.113.0/24]
  uplinks: {enp1: wired}
  cpus: 8
  memory: 16GiB
  disk: 400GiB
segments:
  road: {reach: upstream, uplink: enp1, subnet: 203.0.113.0/24, gateway: 203.0.113.1}
  desks: {reach: isolated, subnet: 10.83.16.0/24}
  pool: {reach: isolated, subnet: 10.83.48.0/24}
appliances:
  gate:
    profile: reference
    autostart: true
    needs: {cpus: 1, memory: 1GiB, disk: 8GiB, nics: [virtio], disk-buses: [virtio]}
    machine: {cpus: 1, memory: 2GiB, disk: 16GiB, nic: virtio, disk-bus: virtio, boot: [disk, media]}
    ports:
      - {role: wan, segment: road, mac: '02:00:00:00:01:01'}
      - {role: lan, segment: desks, address: 10.83.16.1/24, mac: '02:00:00:00:01:02'}
      - {role: lan, name: sealed, segment: pool, mac: '02:00:00:00:01:03'}
    nat:
      publish:
        - {port: tcp/8443, to: ferry, at: tcp/443}
    rules:
      - deny any from pool to any
      - allow any from desks to outside
guests:
  heron: desks
  ferry: {segment: desks, static: 10.83.16.10/24, gateway: 10.83.16.1, dns: [10.83.16.1]}
  newt: {segment: pool, autostart: true}
expect:
  - newt never reaches outside
`

// veil is the example of a transparent appliance.
const veil = `bastion: 1
lab: mudflat
segments:
  road: {reach: upstream, subnet: 203.0.113.0/24, gateway: 203.0.113.1, foreign-macs: allow}
  desks: {reach: isolated, foreign-macs: allow}
  service: {reach: host}
appliances:
  veil:
    kind: transparent
    ports:
      - {role: wan, segment: road, mac: '02:00:00:00:01:01'}
      - {role: lan, segment: desks, mac: '02:00:00:00:01:02'}
      - {role: manage, segment: service, mac: '02:00:00:00:01:03'}
guests:
  heron: desks
`

// trunked is base with a switch and its tags on the desks' wire.
var trunked = sync.OnceValue(func() string {
	return strings.NewReplacer("{enp1: wired}", "{enp1: wired, enp2: wired}", "desks: {reach: isolated,",
		"desks: {reach: isolated, uplink: enp2, native: 20,", "segments:\n",
		"segments:\n  loft: {reach: isolated, within: desks, vlan: 64, subnet: 10.83.64.0/24}\n",
		"    nat:\n", "      - {role: lan, name: loft, segment: loft, over: lan}\n    nat:\n", "guests:\n",
		"guests:\n  wader: loft\n").Replace(base)
})

// examples are the labs that pages start from where base does not fit.
var examples = sync.OnceValue(func() map[string]func() string {
	return map[string]func() string{
		"refusing-switch": func() string { return veil },
		"bridge-loop":     func() string { return veil },
		"no-filter": func() string {
			return strings.Replace(base, "newt never reaches outside", "heron reaches outside", 1)
		},
		"any-includes-inside": func() string {
			return strings.NewReplacer("{role: lan, name: sealed,", "{role: dmz, name: sealed,",
				"deny any from pool to any", "allow any from pool to outside",
				"newt never reaches outside", "newt reaches outside").Replace(base)
		},
		"private-wan-blocked": func() string {
			return strings.NewReplacer("203.0.113.0/24, gateway: 203.0.113.1", "172.29.64.0/24, gateway: 172.29.64.1", "[203.0.113.0/24]",
				"[172.29.64.0/24]").
				Replace(base)
		},
		"wan-no-gateway": func() string {
			return strings.NewReplacer(", gateway: 203.0.113.1}", "}", "{role: wan, segment: road,",
				"{role: wan, segment: road, address: 203.0.113.7/24, gateway: 203.0.113.1,").Replace(base)
		},
		"wan-in-pool": func() string {
			return strings.NewReplacer("gateway: 203.0.113.1}", "gateway: 203.0.113.1, pool: 203.0.113.50-203.0.113.199}",
				"{role: wan, segment: road,",
				"{role: wan, segment: road, address: 203.0.113.7/24, gateway: 203.0.113.1,").
				Replace(base)
		},
		"no-gateway": func() string {
			return strings.NewReplacer("segments:\n", "segments:\n  attic: {reach: isolated, subnet: 10.83.99.0/24}\n", "guests:\n",
				"guests:\n  wader: {segment: attic, static: 10.83.99.9/24}\n",
				"    nat:\n", "      - {role: lan, name: attic, segment: attic, mac: '02:00:00:00:01:04'}\n    nat:\n").
				Replace(base)
		},
		"vlan-not-carried": func() string {
			return strings.NewReplacer("segments:\n", "segments:\n  loft: {reach: isolated, within: desks, vlan: 64, subnet: 10.83.64.0/24}\n",
				"guests:\n", "guests:\n  wader: {segment: loft, static: 10.83.64.9/24}\n",
				"    nat:\n", "      - {role: lan, name: loft, segment: loft, over: lan}\n    nat:\n").
				Replace(base)
		},
		"no-dhcp-yet": func() string {
			return strings.Replace(base, "desks: {reach: isolated,", "desks: {reach: isolated, dhcp: ferry,", 1)
		},
		"native-vlan": func() string { return trunked() },
		"unexpected-nic-model": func() string {
			return strings.NewReplacer("segment: desks, address: 10.83.16.1/24,", "segment: desks, address: 10.83.16.1/24, device: eth1,",
				"segment: loft, over: lan", "segment: loft, over: lan, device: eth1.64").
				Replace(trunked())
		},
		"host-behind": func() string { return veil },
		"shared-uplink": func() string {
			return strings.NewReplacer(
				"{enp1: wired}",
				"{enp1: wired, enp2: wired}",
				"segments:\n",
				"segments:\n  spur: {reach: upstream, uplink: enp2, subnet: 198.51.100.0/24, gateway: 198.51.100.1}\n",
				"    nat:\n",
				"      - {role: wan, name: spare, segment: spur, mac: '02:00:00:00:01:04'}\n    nat:\n",
			).Replace(base)
		},
		"host-on-bridge": func() string { return veil },
		"unmanaged":      func() string { return veil },
		"local-network-reachable": func() string {
			return strings.NewReplacer("203.0.113.0/24, gateway: 203.0.113.1", "172.29.64.0/24, gateway: 172.29.64.1", "[203.0.113.0/24]",
				"[172.29.64.0/24]", "      - allow any from desks",
				"      - deny any from desks to 172.29.64.0/24\n      - allow any from desks").
				Replace(base)
		},
		"wrong-return-route": func() string {
			return strings.NewReplacer("gateway: 203.0.113.1}", "gateway: 203.0.113.1, routes: [10.83.16.0/24 via 203.0.113.7]}",
				"{role: wan, segment: road,", "{role: wan, segment: road, address: 203.0.113.7/24,").
				Replace(base)
		},
		"small-pool": func() string {
			return strings.Replace(
				base,
				"{role: lan, segment: desks,",
				"{role: lan, segment: desks, dhcp: {pool: 10.83.16.50-10.83.16.50},",
				1,
			)
		},
	}
})

// Labs returns the entry's example: the lab that has the finding, and the same
// lab mended.
func (e Entry) Labs() (bad, good string) {
	good = base
	if fn := examples()[e.Code]; fn != nil {
		good = fn()
	}
	return strings.Replace(good, e.Old, e.Bad, 1), good
}
