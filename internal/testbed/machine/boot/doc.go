// Package boot makes what a reference machine starts from: a Linux kernel that is on this
// machine or in a Debian package of one, the modules that a machine of a lab needs, each
// after those that it depends on, and an initial file system (newc, as in the kernel's
// Documentation/driver-api/early-userspace/buffer-format.rst) whose first process is this
// very program.
package boot
