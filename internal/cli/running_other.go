//go:build !linux

package cli

import (
	"openbastion/internal/model/plan"
	"openbastion/internal/testbed/supervisor"
)

// notHere says that labs run on Linux only.
func notHere() error {
	return failure{exitLacking, "a lab runs on Linux only: it is made of that kernel's network namespaces",
		"Here, simulate it instead (bastion rehearse LAB), or export it for a hypervisor on this system."}
}

func (a *app) drillOn(*plan.Plan, string, drillOptions) error       { return notHere() }
func (a *app) answerPlanted(*plan.Plan, string, drillOptions) error { return notHere() }
func (a *app) startLab(string, startOptions) error                  { return notHere() }
func (a *app) keepLab(string, startOptions) error                   { return notHere() }
func (a *app) showStatus([]string, statusOptions) error             { return notHere() }
func (a *app) runShell(string, string, []string) error              { return notHere() }
func (a *app) verifyLab(string, []string, bool) error               { return notHere() }
func (a *app) faultInLab(string, faultOptions) error                { return notHere() }
func (a *app) guardLab(string, guardOptions) error                  { return notHere() }
func (a *app) endLab(string, stopOptions) error                     { return notHere() }
func (a *app) endAll(stopOptions) error                             { return notHere() }
func runInside() error                                              { return notHere() }
func (a *app) operate(string, supervisor.Operation) (string, error) { return "", notHere() }
func (a *app) atConsole(string, string) error                       { return notHere() }
func (a *app) savePicture(string, string, string, bool) error       { return notHere() }
func (a *app) install(*plan.Plan, string, installOptions) error     { return notHere() }
func (a *app) eachBench(string, []string, []string) error           { return notHere() }
func (a *app) repairLab(string, repairOptions) error                { return notHere() }
