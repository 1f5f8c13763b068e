package api

import (
	"openbastion/internal/classroom/class"
	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/grade"
	"openbastion/internal/diagnose"
	"openbastion/internal/hostinfo"
	"openbastion/internal/image"
	"openbastion/internal/model/change"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/observe/identify"
	"openbastion/internal/testbed/machine/screen"
	"openbastion/internal/verify/check"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/explain"
	"openbastion/internal/verify/outage"
	"openbastion/internal/verify/reachability"
	"openbastion/internal/verify/verdict"
	"time"
)

// ChangesSchema names the JSON form of [Changes].
const ChangesSchema = "openbastion.changes/1"

// Changes is what differs between two rehearsals.
type Changes struct {
	Schema  string           `json:"schema"`
	Lab     string           `json:"lab"`
	Verdict claims.Verdict   `json:"verdict"`
	Before  claims.Verdict   `json:"before"`
	After   claims.Verdict   `json:"after"`
	Same    int              `json:"same"`
	Changes []verdict.Change `json:"changes"`
}

// ComparisonSchema names the JSON form of [Comparison].
const ComparisonSchema = "openbastion.compare/1"

// Comparison is what a machine shows, held against the plan.
type Comparison struct {
	Schema  string          `json:"schema"`
	Lab     string          `json:"lab"`
	Machine string          `json:"machine"`
	Verdict claims.Verdict  `json:"verdict"`
	Facts   []identify.Fact `json:"facts"`
}

// DigestsSchema names the JSON form of [Digests].
const DigestsSchema = "openbastion.digests/1"

// Digests is how files compare with their published checksums.
type Digests struct {
	Schema   string          `json:"schema"`
	Verdicts []image.Verdict `json:"verdicts"`
}

// DisplaySchema names the JSON form of [Display].
const DisplaySchema = "openbastion.display/1"

// Display is where the display of a virtual machine is seen.
type Display struct {
	Schema   string `json:"schema"`
	Machine  string `json:"machine"`
	Address  string `json:"address"`
	Password string `json:"password"`
}

// DoneSchema names the JSON form of [Done].
const DoneSchema = "openbastion.done/1"

// Done is what was done to a machine.
type Done struct {
	Schema  string `json:"schema"`
	Machine string `json:"machine"`
	Done    string `json:"done"`
}

// ComparisonsSchema names the JSON form of [Comparisons].
const ComparisonsSchema = "openbastion.comparisons/1"

// Comparisons are a lab's networks and machines as something keeps them, each compared with the plan.
type Comparisons struct {
	Schema  string         `json:"schema"`
	Lab     string         `json:"lab"`
	Verdict claims.Verdict `json:"verdict"`
	Of      []Comparison   `json:"of"` // the host's networks first, as machine host
}

// DryRunSchema names the JSON form of [DryRun].
const DryRunSchema = "openbastion.dry-run/1"

// DryRun is what a start would make.
type DryRun struct {
	Schema  string   `json:"schema"`
	Lab     string   `json:"lab"`
	Inside  []string `json:"inside"`
	Changes []string `json:"changes"`
}

// AppliedSchema names the JSON form of [Applied].
const AppliedSchema = "openbastion.applied/1"

// Applied is what differs between a lab that runs and its file, and whether that was changed.
type Applied struct {
	Schema       string          `json:"schema"`
	Lab          string          `json:"lab"`
	Applied      bool            `json:"applied"`
	Milliseconds int64           `json:"milliseconds,omitempty"` // that it took
	Changes      []change.Change `json:"changes"`
}

// RepairSchema names the JSON form of [Repair].
const RepairSchema = "openbastion.repair/1"

// Repair is what differs from the plan in a running lab, what was set right or put back, and how the checks come
// out then.
type Repair struct {
	Schema   string            `json:"schema"`
	Lab      string            `json:"lab"`
	Found    []status.Drift    `json:"found"`
	Done     []status.Drift    `json:"done"` // set right, or put back
	Repaired bool              `json:"repaired"`
	Verdict  *verdict.Document `json:"verdict,omitempty"`
}

// FaultSchema names the JSON form of [Fault].
const FaultSchema = "openbastion.fault/1"

// Fault is what guests saw while something was wrong, and the verdict after it.
type Fault struct {
	Schema  string           `json:"schema"`
	Lab     string           `json:"lab"`
	Verdict claims.Verdict   `json:"verdict"`
	Fault   string           `json:"fault"`
	Guests  []outage.Seen    `json:"guests"`
	After   verdict.Document `json:"after"`
}

// FaultsSchema names the JSON form of [Faults].
const FaultsSchema = "openbastion.faults/1"

// Faults is what each adapter on each wrong segment would open.
type Faults struct {
	Schema string     `json:"schema"`
	Lab    string     `json:"lab"`
	Alike  int        `json:"alike"` // guests that were left out, as nothing but their names tells them apart
	Faults []FaultRow `json:"faults"`
}

// FindingsSchema names the JSON form of [Findings].
const FindingsSchema = "openbastion.findings/1"

// Findings is what check finds.
type Findings struct {
	Schema    string          `json:"schema"`
	Lab       string          `json:"lab"`
	Findings  []check.Finding `json:"findings"`
	Rehearsed *Rehearsed      `json:"rehearsed"` // the last rehearsal of this very file
}

// GradesSchema names the JSON form of [Grades].
const GradesSchema = "openbastion.grades/1"

// Grades is the points of each bench.
type Grades struct {
	Schema string       `json:"schema"`
	Lab    string       `json:"lab"`
	Title  string       `json:"title"`
	Cards  []grade.Card `json:"cards"`
	Notes  []string     `json:"notes"`
}

// ImagesSchema names the JSON form of [Images].
const ImagesSchema = "openbastion.image/1"

// Images is what image files are.
type Images struct {
	Schema string           `json:"schema"`
	Files  []*image.Content `json:"files"`
}

// MapSchema names the JSON form of [Map].
const MapSchema = "openbastion.map/1"

// Map is which listed interface is which port.
type Map struct {
	Schema     string         `json:"schema"`
	Lab        string         `json:"lab"`
	Interfaces []identify.Row `json:"interfaces"`
}

// MatrixSchema names the JSON form of [Matrix].
const MatrixSchema = "openbastion.matrix/1"

// Matrix is who gets what to whom.
type Matrix struct {
	Schema string              `json:"schema"`
	Lab    string              `json:"lab"`
	Cells  []reachability.Cell `json:"cells"`
}

// NeedsSchema names the JSON form of [Needs].
const NeedsSchema = "openbastion.needs/1"

// Needs is what a package asks of its machine.
type Needs struct {
	Schema   string          `json:"schema"`
	Machine  string          `json:"machine"`
	CPUs     int             `json:"cpus"`
	Memory   lab.Bytes       `json:"memory"`
	Disk     lab.Bytes       `json:"disk"`
	NICs     []string        `json:"nics"`
	Buses    []string        `json:"disk_buses"`
	Adapters []NeededAdapter `json:"adapters"`
}

// PassagesSchema names the JSON form of [Passages].
const PassagesSchema = "openbastion.passages/1"

// Passages is what passes from one to another.
type Passages struct {
	Schema   string                   `json:"schema"`
	Lab      string                   `json:"lab"`
	Asked    string                   `json:"asked"`
	Passages []reachability.PassageOf `json:"passages"`
	Partial  bool                     `json:"partial"`
}

// PassesSchema names the JSON form of [Passes].
const PassesSchema = "openbastion.passes/1"

// Passes is what passes differently in another lab.
type Passes struct {
	Schema  string                `json:"schema"`
	Lab     string                `json:"lab"`
	Verdict claims.Verdict        `json:"verdict"` // broken where a new path outside opens
	Changes []reachability.Change `json:"changes"`
}

// PlacementSchema names the JSON form of [Placement].
const PlacementSchema = "openbastion.placement/1"

// Placement is which host would carry which bench.
type Placement struct {
	Schema  string       `json:"schema"`
	Lab     string       `json:"lab"`
	Stage   string       `json:"stage"`
	Hosts   []PlacedHost `json:"hosts"`
	Without []string     `json:"without"` // benches that find no place
}

// ProfileSchema names the JSON form of [Profile].
const ProfileSchema = "openbastion.profile/1"

// Profile is what a profile states.
type Profile struct {
	Schema string     `json:"schema"`
	Name   string     `json:"profile"`
	Facts  []lab.Fact `json:"facts"`
}

// ProfilesSchema names the JSON form of [Profiles].
const ProfilesSchema = "openbastion.profiles/1"

// Profiles lists the profiles that ship with the program.
type Profiles struct {
	Schema   string       `json:"schema"`
	Profiles []ProfileRow `json:"profiles"`
}

// ScreenSchema names the JSON form of [Screen].
const ScreenSchema = "openbastion.screen/1"

// Screen is the text on a machine's screen.
type Screen struct {
	Schema  string `json:"schema"`
	Machine string `json:"machine"`
	screen.Text
}

// SnapshotsSchema names the JSON form of [Snapshots].
const SnapshotsSchema = "openbastion.snapshots/1"

// Snapshots lists the snapshots of a lab.
type Snapshots struct {
	Schema    string     `json:"schema"`
	Snapshots []Snapshot `json:"snapshots"`
}

// StartedSchema names the JSON form of [Started].
const StartedSchema = "openbastion.started/1"

// Started lists the labs that were started.
type Started struct {
	Schema  string         `json:"schema"`
	Labs    []status.Lab   `json:"labs"`
	Classes []class.Record `json:"classes"`
}

// StoppedSchema names the JSON form of [Stopped].
const StoppedSchema = "openbastion.stopped/1"

// Stopped is how a lab ended.
type Stopped struct {
	Schema string `json:"schema"`
	Lab    string `json:"lab"`
	Said   string `json:"message"`
}

// SurveySchema names the JSON form of [Survey].
const SurveySchema = "openbastion.survey/1"

// Survey is what this machine offers a lab.
type Survey struct {
	Schema string  `json:"schema"`
	Lab    *string `json:"lab"`
	*hostinfo.Report
	Follows []string `json:"follows"`
}

// SymptomsSchema names the JSON form of [Symptoms].
const SymptomsSchema = "openbastion.symptoms/1"

// Symptoms is what each mistake would show.
type Symptoms struct {
	Schema string    `json:"schema"`
	Lab    string    `json:"lab"`
	Rows   []Symptom `json:"rows"`
}

// UnpackedSchema names the JSON form of [Unpacked].
const UnpackedSchema = "openbastion.unpacked/1"

// Unpacked is what was unpacked.
type Unpacked struct {
	Schema string `json:"schema"`
	File   string `json:"file"`
	To     string `json:"to"`
	Size   int64  `json:"size"`
}

// VersionSchema names the JSON form of [Version].
const VersionSchema = "openbastion.version/1"

// Version is which program this is.
type Version struct {
	Schema  string  `json:"schema"`
	Lab     *string `json:"lab"`
	Version string  `json:"version"`
	Go      string  `json:"go"`
	System  string  `json:"system"`
}

// WordsSchema names the JSON form of [Words].
const WordsSchema = "openbastion.words/1"

// Words is the glossary and the catalogue of findings.
type Words struct {
	Schema   string         `json:"schema"`
	Lab      *string        `json:"lab"`
	Words    []explain.Word `json:"words"`
	Findings []FindingPage  `json:"findings"`
}

// FaultRow is one adapter on one wrong segment.
type FaultRow struct {
	Machine string   `json:"machine"`
	Adapter string   `json:"adapter"`
	Segment string   `json:"segment"`
	Escape  []string `json:"escape"`  // the path outside that it opens; empty: none
	Tried   bool     `json:"tried"`   // it was rehearsed: noticed and breaks are known
	Noticed []string `json:"noticed"` // claims that break, so that somebody would notice
	Breaks  []string `json:"breaks"`  // other claims that break
	Found   []string `json:"found"`   // codes of findings that it brings
}

// Rehearsed is the last rehearsal of a lab file as it is.
type Rehearsed struct {
	Verdict claims.Verdict `json:"verdict"`
	At      time.Time      `json:"time"`
}

// NeededAdapter is an adapter of a package's machine, and the port that it becomes.
type NeededAdapter struct {
	Number  int    `json:"number"`
	Network string `json:"network"`
	Model   string `json:"model"`
	Port    string `json:"port,omitempty"`
	Segment string `json:"segment,omitempty"`
	How     string `json:"method,omitempty"`
}

// ProfileRow is a profile by its name.
type ProfileRow struct {
	Name  string `json:"name"`
	Title string `json:"title"`
}

// Symptom is what mistakes that look alike would show.
type Symptom struct {
	Mistakes []diagnose.Named `json:"mistakes"`
	Like     []string         `json:"like"`
	See      []string         `json:"symptoms"`
}

// PlacedHost is a host with the benches that it would carry.
type PlacedHost struct {
	Name        string    `json:"host"`
	SSH         string    `json:"ssh"`
	Benches     []string  `json:"benches"`
	CPUs        int       `json:"cpus"` // that its benches are planned with
	CPUsMost    int       `json:"cpus_most"`
	Memory      lab.Bytes `json:"memory"`
	MemoryMost  lab.Bytes `json:"memory_most"`
	BenchesMost int       `json:"benches_most"`
}

// Snapshot is one of a lab's snapshots.
type Snapshot struct {
	Name string    `json:"name"`
	At   time.Time `json:"time"`
}

// FindingPage is the page of one kind of finding.
type FindingPage struct {
	Code     string         `json:"code"`
	Severity check.Severity `json:"severity"`
	Title    string         `json:"title"`
	See      string         `json:"symptom"`
	Why      string         `json:"why"`
	Remedy   string         `json:"remedy"`
	Before   []string       `json:"before"`
	After    []string       `json:"after"`
}

// Proof is the proof of a lab, with what became of the packet of each escape where they were sent.
type Proof struct {
	reachability.Document
	Replays []Replay `json:"replays,omitempty"`
}

// Replay is what became of the packet of an escape in a rehearsal.
type Replay struct {
	Arrived bool     `json:"arrived"`
	Path    []string `json:"path"`
	Missing string   `json:"missing,omitempty"`
}

// Joined is a verdict on the evidence of guests.
type Joined struct {
	verdict.Document
	Bench   string            `json:"bench"`
	Guests  []string          `json:"guests"`
	Silent  []string          `json:"silent"` // guests without evidence
	Remarks []evidence.Remark `json:"remarks"`
}

// DemoSchema names the JSON form of [Demo].
const DemoSchema = "openbastion.demo/1"

// Demo is the whole job on the sample labs.
type Demo struct {
	Schema string     `json:"schema"`
	Lab    string     `json:"lab"`
	Steps  []DemoStep `json:"steps"`
}

// DemoStep is one of the sample labs.
type DemoStep struct {
	Plan    plan.Document    `json:"plan"`
	Verdict verdict.Document `json:"verdict"`
}
