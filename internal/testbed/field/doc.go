// Package field checks a plan where this program runs inside a lab that anything else runs: a
// [Probe] in a guest answers what that guest can tell, and a [Witness] outside says what it
// saw. What a system or a user's rights do not allow is missing, with the reason.
package field
