// Package libvirt asks the daemon of the machine manager libvirt for the definitions of networks and machines that it
// keeps: calls of its remote protocol (remote_protocol.x, program 0x20008086), whose data are in XDR (RFC 4506), over a
// socket of this host or an SSH session. It reads, and changes nothing.
package libvirt
