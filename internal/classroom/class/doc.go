// Package class is about the benches of a class, copies of one lab, on several hosts: which
// host carries which, how they are, and the one verdict over all of them.
//
// A bench is never split: all its wires stay on one host. Memory is never promised twice;
// processors are shared as the hosts file says.
package class
