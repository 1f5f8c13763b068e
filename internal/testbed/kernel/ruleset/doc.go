// Package ruleset loads rules for the kernel's packet filter that are written as
// text, over netlink and without another program. It reads the part of the
// language (nft(8)) in which export/nft writes an appliance, so that what is
// exported and what runs are one text; a word that it does not know is an error.
package ruleset
