package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"openbastion/internal/atomicfile"
	"openbastion/internal/classroom/class"
	"openbastion/internal/export/batch"
	"openbastion/internal/model/status"
)

// results is the folder, beside the lab file, that benches of a job write their verdicts to.
const results = "results"

// longestCheck bounds how long all benches of a job may take to be checked, by their number.
func longestCheck(benches int) time.Duration {
	return 2*time.Minute + time.Duration(benches)*5*time.Second
}

// scheduler runs a command of the batch system in the lab's folder and returns what it prints.
func (a *app) scheduler(folder, name string, args ...string) (string, error) {
	c := exec.CommandContext(a.ctx, name, args...)
	c.Dir = folder
	var said strings.Builder
	c.Stderr = &said
	out, err := c.Output()
	switch {
	case a.ctx.Err() != nil:
		return "", a.ctx.Err()
	case errors.Is(err, exec.ErrNotFound):
		return "", failure{exitLacking, name + " is not on this machine", "run this on a login node of the cluster, or write hosts: instead of job:"}
	case err != nil:
		return "", failure{exitBroken, name + ": " + strings.TrimSpace(said.String()), ""}
	}
	return string(out), nil
}

// startJob puts the benches of a class as an array job into the queue of the batch system.
func (a *app) startJob(c ofClass, o startOptions) error {
	n := len(c.Members())
	folder := filepath.Dir(c.file)
	if r, ok, err := aClass(c.plan.Name); err != nil || ok {
		if err == nil {
			err = failure{exitBroken, "the class is in the queue already, as job " + r.Job, "bastion class stop " + c.File + " ends it first."}
		}
		return err
	}
	files, err := batch.Files(c.plan)
	if err != nil {
		return err
	}
	script := files[0]
	if o.dry {
		a.screen().para(0, 2, plain, fmt.Sprintf("sbatch --array=1-%d %s, in %s: %s, each of %d MiB of memory", n, script.Name, folder,
			count(n, "bench", "benches"), batch.Memory(c.plan)))
		return nil
	}
	if err := a.jobFolder(folder, script.Name, script.Data); err != nil {
		return err
	}
	out, err := a.scheduler(folder, "sbatch", "--parsable", fmt.Sprintf("--array=1-%d", n), script.Name)
	if err != nil {
		return err
	}
	job, _, _ := strings.Cut(strings.TrimSpace(out), ";") // behind it may stand the cluster
	if _, err := strconv.ParseUint(job, 10, 64); err != nil {
		return failure{exitBroken, fmt.Sprintf("sbatch printed %q, which is not the number of a job", strings.TrimSpace(out)), ""}
	}
	abs, err := filepath.Abs(c.file)
	if err != nil {
		return err
	}
	r := class.Record{Lab: c.plan.Name, File: abs, Digest: c.plan.Fingerprint(), Stage: c.On, Job: job,
		Started: time.Now().UTC().Truncate(time.Second), Hosts: []class.RecordHost{}}
	for i, who := range c.Members() {
		r.Benches = append(r.Benches, class.Bench{Name: c.bench(i + 1), For: who.Name})
	}
	if err := writeClass(r); err != nil {
		return failure{exitUsage, "cannot record what was started: " + err.Error(), ""}
	}
	if o.then == "verify" {
		return a.verifyJob(c, r, classVerify{})
	}
	a.screen().para(0, 2, plain, fmt.Sprintf("%s job %s: %s in the queue", signHolds, r.Job, count(n, "bench", "benches")))
	return nil
}

// jobFolder puts what the job needs beside the lab file: the script, this program, and folders for logs and verdicts.
func (a *app) jobFolder(folder, name string, script []byte) error {
	own, err := os.Executable()
	if err != nil {
		return err
	}
	for _, d := range []string{"log", results} {
		if err := os.MkdirAll(filepath.Join(folder, d), 0o700); err != nil {
			return failure{exitUsage, err.Error(), ""}
		}
	}
	replace := atomicfile.Options{Replace: true}
	if err := atomicfile.Write(filepath.Join(folder, name), script, replace); err != nil {
		return failure{exitUsage, err.Error(), ""}
	}
	program := filepath.Join(folder, "bastion")
	if was, err := os.Stat(program); err == nil {
		if is, err := os.Stat(own); err == nil && os.SameFile(was, is) {
			return nil
		}
	}
	data, err := os.ReadFile(own)
	if err == nil {
		err = atomicfile.Write(program, data, replace)
	}
	if err == nil {
		err = os.Chmod(program, 0o700)
	}
	if err != nil {
		return failure{exitUsage, "cannot put the program beside the lab file: " + err.Error(), ""}
	}
	return nil
}

// queued asks the batch system how each bench of a job is. Benches that it has forgotten are over.
func (a *app) queued(c ofClass, r class.Record) (class.Status, error) {
	out := class.Status{Schema: class.StatusSchema, Lab: r.Lab, File: r.File, Stage: r.Stage,
		Hosts: []class.HostStatus{}, Benches: []class.State{}}
	text, err := a.scheduler(filepath.Dir(c.file), "squeue", "-h", "-r", "-t", "all", "-j", r.Job, "-o", "%K|%T|%N|%r")
	if err != nil && !strings.Contains(err.Error(), "Invalid job id") {
		return out, err
	}
	by := map[int]class.State{}
	for line := range strings.Lines(text) {
		words := strings.Split(strings.TrimSpace(line), "|")
		if len(words) != 4 {
			continue
		}
		i, err := strconv.Atoi(words[0])
		if err != nil || i < 1 || i > len(r.Benches) {
			continue
		}
		s := class.State{Bench: r.Benches[i-1]}
		s.Host = words[2]
		switch words[1] {
		case "RUNNING":
			s.Phase = status.Running
		case "PENDING", "CONFIGURING", "REQUEUED":
			s.Phase, s.Why = status.Starting, "waits in the queue: "+words[3]
		default:
			s.Phase, s.Why = status.Ended, strings.ToLower(words[1])+": "+words[3]
		}
		by[i] = s
	}
	for i, b := range r.Benches {
		s, ok := by[i+1]
		if !ok {
			s = class.State{Bench: b, Phase: status.Ended, Why: "not in the queue any more"}
		}
		out.Benches = append(out.Benches, s)
		if s.Host != "" && !slices.ContainsFunc(out.Hosts, func(h class.HostStatus) bool { return h.Name == s.Host }) {
			out.Hosts = append(out.Hosts, class.HostStatus{Name: s.Host, Answers: true})
		}
	}
	return out, nil
}

// askJob shows or checks the benches of a job.
func (a *app) askJob(c ofClass, verb string, o classVerify) error {
	r, err := a.started(c)
	if err != nil {
		return err
	}
	if verb == "verify" {
		return a.verifyJob(c, r, o)
	}
	st, err := a.queued(c, r)
	if err != nil {
		return err
	}
	r.Benches = nil
	for _, b := range st.Benches {
		r.Benches = append(r.Benches, b.Bench)
	}
	return a.saidClass(r, st, "as job "+r.Job+", since "+r.Started.Local().Format("2006-01-02 15:04"), false)
}

// verifyJob has all benches of a job checked, waits for their verdicts, and comes to the one of the class.
func (a *app) verifyJob(c ofClass, r class.Record, o classVerify) error {
	folder := filepath.Join(filepath.Dir(c.file), results)
	for _, b := range r.Benches {
		if err := os.Remove(filepath.Join(folder, b.Name+".json")); err != nil && !errors.Is(err, os.ErrNotExist) {
			return failure{exitUsage, err.Error(), ""}
		}
	}
	if err := a.waitRunning(c, r); err != nil {
		return err
	}
	if _, err := a.scheduler(filepath.Dir(c.file), "scancel", "--batch", "--signal=USR1", r.Job); err != nil {
		return err
	}
	progress, until := a.progress("benches checked"), time.Now().Add(longestCheck(len(r.Benches)))
	for {
		came := 0
		for _, b := range r.Benches {
			if _, err := os.Stat(filepath.Join(folder, b.Name+".json")); err == nil {
				came++
			}
		}
		progress(came, len(r.Benches))
		if came == len(r.Benches) || time.Now().After(until) {
			break
		}
		if err := a.pause(time.Second); err != nil {
			return err
		}
	}
	progress(0, 0)
	return a.fromFolder(c.file, trusted{}, folder, o.reports, o.replace, r.Benches)
}

// waitRunning waits until no bench of a job waits for being started.
func (a *app) waitRunning(c ofClass, r class.Record) error {
	progress, until := a.progress("benches started"), time.Now().Add(longestCheck(len(r.Benches)))
	defer progress(0, 0)
	for time.Now().Before(until) {
		st, err := a.queued(c, r)
		if err != nil {
			return err
		}
		running, waits := 0, 0
		for _, b := range st.Benches {
			switch b.Phase {
			case status.Running:
				running++
			case status.Starting:
				waits++
			}
		}
		if progress(running, len(st.Benches)); waits == 0 {
			return nil
		}
		if err := a.pause(time.Second); err != nil {
			return err
		}
	}
	return nil // what does not run is unknown in the verdict
}

// pause waits, and ends with an interrupt.
func (a *app) pause(d time.Duration) error {
	select {
	case <-a.ctx.Done():
		return a.ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// endJob ends all benches of a job.
func (a *app) endJob(c ofClass) error {
	r, err := a.started(c)
	if err != nil {
		return err
	}
	if _, err := a.scheduler(filepath.Dir(c.file), "scancel", r.Job); err != nil {
		return err
	}
	if err := removeClass(r); err != nil {
		return failure{exitUsage, err.Error(), ""}
	}
	a.screen().para(0, 2, plain, signHolds+" job "+r.Job+" ends")
	return nil
}
