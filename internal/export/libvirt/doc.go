// Package libvirt writes a plan as definitions for the machine manager libvirt: a network for each switch, a domain for each
// machine, in the format of its schema (domain.rng, network.rng). They name nothing of the host but the uplinks that the lab
// file gives, and refer to disks as volumes of the manager's own pool.
package libvirt
