package batch

import (
	"path/filepath"
	"strconv"
	"strings"

	"openbastion/internal/export/fileset"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// What a bench on the kernel takes: its process with the one that started it, and a network stack for each machine; measured
// with the sample lab, and rounded up.
const (
	Process = 64 * lab.MiB
	stack   = 4 * lab.MiB
)

// Memory returns how much memory a bench of a plan takes on the kernel stage, in whole MiB.
func Memory(p *plan.Plan) int { return int((Process + stack*lab.Bytes(len(p.Machines))) / lab.MiB) }

// Files returns the job and the unit. Both name the lab file as it is called, in the folder in which they are used.
func Files(p *plan.Plan) ([]fileset.File, error) {
	words := strings.NewReplacer("{LAB}", p.Name, "{FILE}", filepath.Base(p.Lab.File),
		"{MEMORY}", strconv.Itoa(Memory(p)))
	var out []fileset.File
	for _, t := range []struct{ name, text string }{{p.Name + ".sbatch", arrayJob}, {p.Name + "@.service", unit}} {
		out = append(out, fileset.File{Name: t.name, Data: []byte(words.Replace(t.text))})
	}
	return out, nil
}

const arrayJob = `#!/bin/bash
# The benches of {LAB} as an array job: bench N is the lab {LAB}-N. In a folder that all nodes see, with
# {FILE} and the program bastion in it:
#
#   mkdir -p log results
#   sbatch --array=1-20 {LAB}.sbatch                    start benches 1 to 20; it prints the number of the job
#   scancel --batch --signal=USR1 JOB                      have all of them checked, verdicts into results
#   ./bastion verify {FILE} --from results              the one verdict on the class
#   srun --jobid=$(squeue -h -j JOB_7 -o %A) --overlap --mem=0 -n1 --pty sh -c \
#     'XDG_STATE_HOME=${TMPDIR:-/tmp}/$USER-bastion-$SLURM_JOB_ID ./bastion shell {LAB}-7 MACHINE'    work on bench 7
#   scancel JOB                                            stop them; nothing is left
#
# What the admin allows: user namespaces of ordinary users on the nodes; in the partition OverSubscribe=FORCE:200, as a
# bench needs memory and hardly a processor; KillWait above 10 s. For the memory limit to hold: TaskPlugin=task/cgroup and
# ConstrainRAMSpace=yes.
#SBATCH --job-name={LAB}
#SBATCH --array=1
#SBATCH --ntasks=1
#SBATCH --cpus-per-task=1
# memory of one bench
#SBATCH --mem={MEMORY}M
#SBATCH --time=08:00:00
# started again elsewhere when its node dies
#SBATCH --requeue
#SBATCH --open-mode=append
#SBATCH --output=log/%A_%a.out

# The record of what runs stays on the node: two nodes never share one.
export XDG_STATE_HOME="${TMPDIR:-/tmp}/$USER-bastion-$SLURM_JOB_ID"
mkdir -p "$XDG_STATE_HOME" results

./bastion start {FILE} --as-user --stay --results results &
bench=$!
trap 'kill -TERM "$bench"' TERM
trap 'kill -USR1 "$bench"' USR1
while kill -0 "$bench" 2>/dev/null; do
	wait "$bench" # it also returns at each signal
	status=$?
done
rm -rf "$XDG_STATE_HOME"
exit "$status"
`

const unit = `# A bench of {LAB} as a service: bench N is the lab {LAB}-N. With {FILE} in /etc/bastion and the program in
# /usr/local/bin:
#
#   cp {LAB}@.service /etc/systemd/system/ && systemctl daemon-reload
#   systemctl start {LAB}@{1..20}                       start benches 1 to 20
#   systemctl kill --kill-whom=main -s USR1 '{LAB}@*'   have all of them checked, verdicts into results
#   bastion verify /etc/bastion/{FILE} --from /var/lib/bastion/{LAB}/results
#   XDG_STATE_HOME=/var/lib/bastion/{LAB} bastion shell {LAB}-7 MACHINE    work on bench 7
#   systemctl stop '{LAB}@*'                            stop them; nothing is left
[Unit]
Description=Bench %i of the lab {LAB}
After=network.target

[Service]
Environment=XDG_STATE_HOME=/var/lib/bastion/{LAB}
StateDirectory=bastion/{LAB}
ExecStart=/usr/local/bin/bastion start /etc/bastion/{FILE} --bench %i --stay --results /var/lib/bastion/{LAB}/results
# its own process ends the lab in order; what is left after that is ended by force
KillMode=mixed
TimeoutStopSec=30
Restart=on-failure
# of one bench: it cannot starve another
MemoryMax={MEMORY}M
CPUWeight=50
TasksMax=512

[Install]
WantedBy=multi-user.target
`
