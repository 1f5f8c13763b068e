// Package nfnetlink loads a ruleset into the kernel's packet filter over netlink (nf_tables),
// without another program: the same typed rules that filter/ruleset writes as text.
package nfnetlink
