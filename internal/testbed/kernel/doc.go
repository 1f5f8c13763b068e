// Package kernel is a lab on this machine's kernel: every machine of the plan is
// a network namespace with a real stack, the appliance filters and translates with
// the kernel's packet filter, and leases, names and pages are served by the core's
// machines on real sockets. The outside is what the rehearsal has there, behind
// the same switch, so that what guests meet is the same on both stages.
//
// Namespaces have no names and are held by file descriptors alone: when the program
// that holds them ends, however it ends, the kernel takes them and all that is in
// them away.
package kernel
