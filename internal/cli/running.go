package cli

import (
	"fmt"
	"openbastion/internal/model/lab"
	"openbastion/internal/simulator"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// keepCommand is the hidden command of a supervising process.
const keepCommand = "keep"

// startOptions are what start can be told.
type startOptions struct {
	stage  string
	then   string
	dry    bool
	yes    bool // a lab that runs is changed without asking
	asUser bool
	join   bool

	capture  string
	size     string
	commands []string
	servers  []string

	kernel     string // of virtual machines
	inside     string
	only       []string
	appliances bool
	reference  bool
	accel      string
	allow      []string
	spans      []string
	taps       []string

	stay    bool   // until it is ended: in the foreground
	results string // the folder that takes verdicts
	bench   int    // which copy of the lab; 0: the lab itself
	tied    bool   // of the supervising process: it ends with who started it

	hosts   string       // a file: the benches of a class on several hosts
	members []lab.Member // of a class: who works at which bench
	class   string       // its file
	planted string       // the code of a drill: a mistake is in what is built
}

// installOptions are how an appliance is led through what its console asks.
type installOptions struct {
	start  startOptions
	layout string
	yes    bool // answers are typed without asking
}

// The stages that a lab runs on.
const (
	onKernel   = "kernel"
	onMachines = "machines"
)

func (a *app) startFlags(c *cobra.Command, o *startOptions) {
	c.Flags().StringVar(&o.stage, "on", onKernel,
		"where it runs: kernel, in network namespaces of this machine, or machines, as virtual machines under QEMU")
	c.Flags().StringVar(&o.kernel, "kernel", "",
		"on machines: the Linux kernel of reference machines, as a Debian package or a folder with boot and lib/modules; "+
			"(default: a package in the cache folder openbastion, else this machine's own)")
	c.Flags().
		StringVar(&o.inside, "inside", "", "on machines: the program for reference machines, linked statically (default: this one)")
	c.Flags().StringArrayVar(&o.only, "only", nil,
		"on machines: only this one is a virtual machine, the rest is simulated; repeatable")
	c.Flags().
		BoolVar(&o.appliances, "appliance-only", false, "on machines: no guest is started, as while an appliance is installed")
	c.Flags().
		BoolVar(&o.reference, "reference", false, "on machines: reference machines also where the lab names an image")
	c.Flags().StringArrayVar(&o.allow, "join-only", nil,
		"on machines, with --join: only this network may be reached, as 192.0.2.0/24; repeatable")
	c.Flags().StringArrayVar(&o.spans, "span", nil,
		"on machines: extend a segment to another host (VXLAN), SEGMENT=NUMBER,NEAR,FAR, such as reedbed=48,192.0.2.1,192.0.2.2; repeatable")
	c.Flags().StringArrayVar(&o.taps, "tap", nil,
		"on machines, with --join: this upstream segment is on a tap or macvtap device of this machine that you may open, SEGMENT=DEVICE; "+
			"repeatable")
	c.Flags().
		StringVar(&o.accel, "accelerate", "auto", "on machines: auto, yes or no: whether the processor does the work, where it can")
	c.Flags().
		BoolVar(&o.asUser, "as-user", false, "without root: inside a user namespace of its own, where the system allows that")
	c.Flags().
		BoolVar(&o.join, "join", false, "connect the lab to this machine's own network, as its upstream segments specify")
	c.Flags().StringVar(&o.capture, "capture", "", "capture each segment to its own file in this folder (pcapng)")
	c.Flags().StringVar(&o.size, "capture-size", "64MiB", "how large each of those files may become")
	c.Flags().StringArrayVar(&o.commands, "appliance-command", nil,
		"configure an appliance by this shell command instead of its plan, [APPLIANCE=]COMMAND: the checks judge it; repeatable")
	c.Flags().StringArrayVar(&o.servers, "add-server", nil,
		"add an unplanned second DHCP server on this segment; repeatable")
}

func (a *app) start() *cobra.Command {
	var o startOptions
	c := &cobra.Command{
		Use: "start [LAB]", Short: "Build and run the lab on this machine",
		Long: `Builds the lab out of network namespaces, cables between them and the kernel's
packet filter: every machine that the kernel can be has its own network stack, the
appliances filter and translate by the rules that "export --kind nft" writes, and
leases and names are served on real sockets. A process keeps the lab until "stop";
it outlives the terminal. Needs root, or --as-user. With --on machines it builds
the lab out of virtual machines under QEMU, without root: what the lab names an image for
starts from that, which is never written, and what it names none for is a reference
machine: a Linux kernel with this program inside. Nothing of this machine's own
network is touched, but with --join. That does as each upstream segment says: "join:
bridged" puts it on its uplink by a socket, and changes nothing of that adapter; "join:
nat" lets it out by translation, for which a device, a table of the packet filter and,
where it was off, forwarding are added, written down before they are made, and taken
back on stop. On machines "join: bridged" is the same where packet sockets may be opened,
or on a tap device that is yours (--tap); everything else is let out by this machine's
ordinary sockets: nothing of this machine changes, it is itself never reached, and what
leaves is counted by source.

A lab that runs, and whose file has changed since, is changed while it runs: start shows
what differs and what that interrupts, asks (or --yes), and does that alone. Machines
that stay keep their programs and open connections; rules are replaced at once.

A command for an appliance finds its devices up and without addresses, and their names
in BASTION_ and the port's name (BASTION_WAN); it may end when all is set up, or stay
and serve.

Programs in the lab's machines see the lab's network, but this machine's files and
users: it is not a sandbox.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if err := o.check(); err != nil {
				return err
			}
			if o.hosts != "" {
				return a.startClass(labArg(args), o)
			}
			if err := o.benchOfArray(); err != nil {
				return err
			}
			a.bench = o.bench
			return a.startLab(labArg(args), o)
		},
	}
	a.startFlags(c, &o)
	c.Flags().StringVar(&o.then, "then", "", "verify: run the checks, with their output and exit status")
	c.Flags().StringVar(&o.hosts, "hosts", "",
		"start copies of the lab, the benches of a class, on the hosts that this file names, by your SSH client; schema --of hosts describes it")
	c.Flags().BoolVar(&o.stay, "stay", false,
		"stay in the foreground until the lab ends: TERM or Ctrl-C stops it, USR1 checks it; for service managers and batch systems")
	c.Flags().StringVar(&o.results, "results", "",
		"with --stay: write each verdict to this folder, as LAB.json")
	c.Flags().IntVar(&o.bench, "bench", 0,
		"start copy N of the lab, LAB-N, from the same file (default: the number of a job in an array)")
	c.Flags().BoolVar(&o.dry, "dry-run", false, "show what would be made and changed, but change nothing")
	c.Flags().BoolVar(&o.yes, "yes", false, "change a running lab without asking")
	return c
}

func (o startOptions) check() error {
	switch {
	case !oneOf(o.stage, onKernel, onMachines):
		return usage("--on is kernel or machines, not %q", o.stage)
	case !oneOf(o.accel, "auto", "yes", "no"):
		return usage("--accelerate is auto, yes or no, not %q", o.accel)
	case len(o.allow) > 0 && (!o.join || o.stage == onKernel):
		return usage("--join-only is for --join on machines")
	case len(o.taps) > 0 && (!o.join || o.stage == onKernel):
		return usage("--tap is for --join on machines")
	case o.stage == onKernel && (o.kernel+o.inside != "" || len(o.only)+len(o.spans) > 0 || o.appliances || o.reference):
		return usage("--kernel, --inside, --only, --span, --appliance-only and --reference are for --on machines")
	case o.stage == onMachines && (o.asUser || len(o.commands) > 0):
		return usage("--as-user and --appliance-command are for --on kernel; virtual machines need no rights")
	case !oneOf(o.then, "", "verify"):
		return usage("--then is verify, not %q", o.then)
	case o.join && o.asUser:
		return usage("--join changes this machine's network, which --as-user must not")
	case o.results != "" && !o.stay:
		return usage("--results goes with --stay")
	case o.stay && (o.dry || o.hosts != ""):
		return usage("--stay keeps one lab in the foreground: it does not go with --dry-run or --hosts")
	case o.bench < 0 || o.bench > 0 && o.hosts != "":
		return usage("--bench is a number from 1, and does not go with --hosts")
	case o.dry && o.yes:
		return usage("--dry-run changes nothing: it does not go with --yes")
	case o.dry && o.then != "":
		return usage("--dry-run does nothing that could be verified")
	}
	return nil
}

func (a *app) keep() *cobra.Command {
	var o startOptions
	c := &cobra.Command{
		Use: keepCommand + " LAB", Hidden: true, Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error { a.bench = o.bench; return a.keepLab(args[0], o) },
	}
	c.Flags().StringVar(&o.planted, "planted", "", "the code of its drill")
	c.Flags().IntVar(&o.bench, "bench", 0, "which copy of the lab it is")
	c.Flags().BoolVar(&o.tied, "tied", false, "it ends with the process that started it")
	a.startFlags(c, &o)
	return c
}

// statusOptions are how a status is shown.
type statusOptions struct {
	watch bool
	page  bool
	at    string
}

func (a *app) status() *cobra.Command {
	var o statusOptions
	c := &cobra.Command{
		Use: "status [LAB]", Short: "Show running labs",
		Long: `Shows the machines of a lab that runs with their addresses and what their adapters
carried, the leases that are given out, how often each rule was met, what the
appliances translate, and what their rules with "log" saw. LAB is the file or the
lab's name; without one and without a lab.yaml, every lab that was started is listed.

With --watch it goes on: rates, leases, flows, what is stopped and by which rule, and
bypasses, as they happen; where nobody looks at a terminal, a line for each.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if o.watch && o.page {
				return usage("use --watch or --page, not both")
			}
			if r, ok, err := onHosts(labArg(args)); err != nil || ok {
				if err == nil && (o.watch || o.page) {
					err = usage("%s runs on several hosts: --watch and --page are for one bench, on its host", r.Lab)
				}
				if err != nil {
					return err
				}
				return a.classStatus(r)
			}
			return a.showStatus(args, o)
		},
	}
	c.Flags().BoolVar(&o.watch, "watch", false, "continue and show events, until interrupted")
	c.Flags().BoolVar(&o.page, "page", false, "the same as a page for a browser on this machine; prints its address")
	c.Flags().
		StringVar(&o.at, "at", "127.0.0.1:0", "where the page is served: an address of this machine itself, and a port, 0 for any")
	return c
}

func (a *app) shell() *cobra.Command {
	c := &cobra.Command{
		Use: "shell LAB MACHINE [-- COMMAND…]", Short: "Run a command inside a machine of the lab",
		Long: `Runs a program with the network of a machine of the lab, and with its DNS servers;
without one, your shell. Terminal and exit status are passed through. The program
ends when the lab is stopped.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			at := c.ArgsLenAtDash()
			if at < 0 {
				at = len(args)
			}
			named, command := args[:at], args[at:]
			switch len(named) {
			case 1:
				named = []string{"lab.yaml", named[0]}
			case 2:
			default:
				return usage("usage: the lab, the machine, --, and the command: %s", c.UseLine())
			}
			return a.runShell(named[0], named[1], command)
		},
	}
	return c
}

func (a *app) verify() *cobra.Command {
	var reports, from []string
	var replace bool
	var trust trusted
	var guard guardOptions
	var fault faultOptions
	c := &cobra.Command{
		Use: "verify [LAB] [--from EVIDENCE]…", Short: "Check a running lab with real packets",
		Long: `Asks the lab that runs what "rehearse" asks the simulated one, and judges the
answers by the same claims: real leases, real names, real packets through the
kernel's own filter, and hostile ones from where the guests are.

With --fault something fails for a while first: it shows when which guest lost its path
and got it back, restores the lab, and checks it then.

With --watch it goes on: what breaks is told with what changed just before, and when it
holds again; a packet past the appliance at once.

With --from it asks nothing: it puts together what "bastion probe" found in guests of a lab
that anything else runs, file by file or line by line. What was altered, is another bench's
or was held against another plan counts for nothing, and that is said. From a folder with
the verdicts of benches it comes to the one verdict on the class, also as a page.`,
		RunE: func(_ *cobra.Command, args []string) error {
			if err := a.wantFormat("text", "json"); err != nil {
				return err
			}
			if err := guard.check(len(from)+len(reports) > 0); err != nil {
				return err
			}
			if err := fault.check(guard.watch || len(from)+len(reports) > 0); err != nil {
				return err
			}
			if guard.watch {
				return a.guardLab(labArg(args), guard)
			}
			if len(from) > 0 {
				lab := fromArgs(args, &from)
				if isFolder(from) {
					return a.fromFolder(lab, trust, from[0], reports, replace, nil)
				}
				return a.verifyFrom(lab, trust, from, reports, replace)
			}
			if len(args) > 1 {
				return usage("one lab is verified at a time: %s", strings.Join(args, ", "))
			}
			if r, ok, err := onHosts(labArg(args)); err != nil || ok {
				if err != nil {
					return err
				}
				return a.verifyClass(r, classVerify{reports, replace})
			}
			if fault.what != "" {
				return a.faultInLab(labArg(args), fault)
			}
			return a.verifyLab(labArg(args), reports, replace)
		},
	}
	c.Flags().
		StringArrayVar(&from, "from", nil, "judge this instead: evidence from probes, in files, or a folder of it; or a folder of the verdicts of benches (start --results)")
	c.Flags().StringVar(&trust.token, "token", "", "with --from: the lab's token (default: this machine's)")
	c.Flags().
		StringVar(&trust.witness, "witness-key", "", "with --from: the key of the lab's test server (default: this machine's)")
	c.Flags().DurationVar(&trust.since, "since", 0, "with --from: refuse evidence that is older than this, such as 24h")
	c.Flags().StringVar(&fault.what, "fault", "", "a fault: "+simulator.FaultForms)
	c.Flags().DurationVar(&fault.lasts, "lasting", lastingDefault, "with --fault: how long it lasts")
	c.Flags().BoolVar(&guard.watch, "watch", false,
		"continue until interrupted: after each change, check again what can be checked without disturbing the lab, and report what breaks")
	c.Flags().DurationVar(&guard.every, "every", everyDefault, "with --watch: check also when nothing changes")
	c.Flags().Lookup("every").DefValue = "5m"
	c.Flags().StringVar(&guard.command, "on-change", "",
		"with --watch: run this shell command when a claim breaks or holds again, or something gets past the appliance (BASTION_EVENT, "+
			"BASTION_CLAIM, BASTION_GUEST, BASTION_TEXT)")
	c.Flags().StringVar(&guard.history, "history", "", "with --watch: add each line to this file, as JSON")
	c.Flags().StringVar(&guard.metrics, "metrics", "",
		"with --watch: keep the state of each check in this file, in the OpenMetrics format, for a monitoring system's text collector")
	c.Flags().BoolVar(&replace, "replace", false, "replace existing files")
	c.Flags().StringArrayVar(&reports, "report", nil,
		"write the verdict to this file: .html (a page), .md (Markdown) or .xml (JUnit, for build servers); repeatable")
	return c
}

// guardOptions are how a lab is watched by its claims.
type guardOptions struct {
	watch   bool
	every   time.Duration
	command string
	history string
	metrics string // the file
}

// check refuses what does not go together.
func (o guardOptions) check(more bool) error {
	switch {
	case !o.watch && (o.command+o.history+o.metrics != "" || o.every != everyDefault):
		return usage("--every, --on-change, --history and --metrics go with --watch")
	case o.watch && more:
		return usage("--watch goes on until it is interrupted: it does not go with --from or --report")
	case o.every < time.Second:
		return usage("--every is at least 1s, as 5m")
	}
	return nil
}

// everyDefault is how often a lab that is watched is checked when nothing changes.
const everyDefault = 5 * time.Minute

// fromArgs returns the lab of a call with evidence: shells put the files that a pattern names
// one after the other, so that those behind the first stand where the lab does.
func fromArgs(args []string, from *[]string) string {
	lab := "lab.yaml"
	for i, arg := range args {
		if i == 0 && (strings.HasSuffix(arg, ".yaml") || strings.HasSuffix(arg, ".yml")) {
			lab = arg
		} else {
			*from = append(*from, arg)
		}
	}
	return lab
}

// stopOptions are how a lab is ended.
type stopOptions struct{ now, discard bool }

func (a *app) stopLab() *cobra.Command {
	all, o := false, stopOptions{}
	c := &cobra.Command{
		Use: "stop [LAB]", Short: "Stop a lab",
		Long: `Ends a lab: the systems of its virtual machines are asked to power down, and ended when
they do not within seconds. Disks that such machines have written are kept, and a later
start goes on with them; --discard takes them away too.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if all && len(args) > 0 {
				return usage("--all takes no lab")
			}
			if all {
				return a.endAll(o)
			}
			if r, ok, err := onHosts(labArg(args)); err != nil {
				return err
			} else if ok {
				return a.endClass(r, o)
			}
			return a.endLab(labArg(args), o)
		},
	}
	c.Flags().BoolVar(&o.now, "now", false, "stop virtual machines at once, without a shutdown")
	c.Flags().BoolVar(&o.discard, "discard", false, "remove the disks of its virtual machines too")
	c.Flags().BoolVar(&all, "all", false, "all labs that you started")
	return c
}

// size returns an amount of bytes in few letters.
func size(n uint64) string {
	const step = 1024
	if n < step {
		return fmt.Sprintf("%d B", n)
	}
	value, units := float64(n), []string{"KiB", "MiB", "GiB", "TiB"}
	for i, u := range units {
		value /= step
		if value < step || i == len(units)-1 {
			return strings.TrimSuffix(fmt.Sprintf("%.1f", value), ".0") + " " + u
		}
	}
	return ""
}
