// Package runbook turns a plan into what a person follows to build the lab by
// hand: steps in order, with the values to type, what should then be seen, and
// the mistakes that are made there most with their signs. It speaks the words
// of a hypervisor ([lab.Wording]) and of an appliance ([lab.Profile]).
package runbook
