// Package plan turns a lab into a plan: everything concrete. Wires, adapters
// with hardware addresses, subnets, gateways, pools, translation and rules.
// What the lab file gives is kept; what it leaves out is chosen, the same way
// on every machine, and so that adding something at the end of the file changes
// nothing before it.
//
// Every other part of the program starts from a [Plan].
package plan
