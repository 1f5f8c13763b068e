package supervisor

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/gofrs/flock"

	"openbastion/internal/atomicfile"
	"openbastion/internal/model/status"
	"openbastion/internal/testbed/hostnet"
)

// Record is what is known of a lab that was started, on disk.
type Record struct {
	Schema   string           `json:"schema"`
	Lab      string           `json:"lab"`
	File     string           `json:"file"`   // where the lab file is, absolute
	Digest   string           `json:"digest"` // of its text and its profiles
	Stage    string           `json:"stage"`
	Phase    status.Phase     `json:"phase"`
	Process  int              `json:"process"`
	Born     uint64           `json:"born"` // when the process began, in the kernel's ticks since start
	Started  time.Time        `json:"started"`
	Profiles []string         `json:"profiles"`          // that were named beside the file
	Planted  string           `json:"planted,omitempty"` // the code of the drill that is in it
	Changes  []hostnet.Change `json:"changes"`           // of this machine, outside the lab's own names; undone on stop
	Bench    int              `json:"bench,omitempty"`   // which copy of the file's lab it is; 0: the lab itself
	Place    Place            `json:"place"`

	folder Folder
}

// Place is where a supervising process runs: its number means something only there.
type Place struct {
	Host  string `json:"host"`
	Boot  string `json:"boot"`            // names one run of one kernel (random(4), boot_id)
	Space string `json:"space,omitempty"` // the processes that are seen there
	Job   string `json:"job,omitempty"`   // of a batch system
}

// String returns the place as people call it.
func (p Place) String() string {
	if p.Job != "" {
		return p.Host + ", in job " + p.Job
	}
	return p.Host
}

// RecordSchema names the record's format.
const RecordSchema = "openbastion.started/1"

// Folder is where one lab's record, lock and socket are.
type Folder struct{ path string }

// Home returns the folder of all labs: below the XDG state folder.
func Home() (string, error) {
	if d := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(d) {
		return filepath.Join(d, "openbastion", "labs"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("no place for what runs: %w", err)
	}
	return filepath.Join(home, ".local", "state", "openbastion", "labs"), nil
}

// Of returns the folder of a lab, which need not be there. The name is one of a lab file:
// small letters, digits and hyphens.
func Of(home, lab string) Folder { return Folder{filepath.Join(home, lab)} }

// Path returns where the folder is.
func (f Folder) Path() string { return f.path }

// All returns the names of the labs that have a folder, in order.
func All(home string) ([]string, error) {
	list, err := os.ReadDir(home)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		if e.IsDir() {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	return names, nil
}

// Make makes the folder, for its owner only.
func (f Folder) Make() error {
	if err := os.MkdirAll(f.path, 0o700); err != nil {
		return err
	}
	return os.Chmod(f.path, 0o700)
}

// Write writes the record, whole or not at all.
func (f Folder) Write(r Record) error {
	r.Schema = RecordSchema
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(f.path, "record.json"), append(data, '\n'), atomicfile.Options{Replace: true})
}

// Read reads the record. fs.ErrNotExist: the lab was never started, or was stopped.
func (f Folder) Read() (Record, error) {
	var r Record
	data, err := os.ReadFile(filepath.Join(f.path, "record.json"))
	if err != nil {
		return r, err
	}
	if err := json.Unmarshal(data, &r); err != nil {
		return r, fmt.Errorf("%s: %w", filepath.Join(f.path, "record.json"), err)
	}
	r.folder = f
	return r, nil
}

// Lock takes the lab's lock, which its supervising process holds as long as it lives.
// false: somebody else has it.
func (f Folder) Lock() (unlock func(), ok bool, err error) {
	l := flock.New(filepath.Join(f.path, "lock"), flock.SetPermissions(0o600))
	if ok, err = l.TryLock(); err != nil || !ok {
		return nil, false, err
	}
	return func() { _ = l.Unlock() }, true, nil
}

// Held reports whether a supervising process holds the lab's lock, wherever it runs.
func (f Folder) Held() bool {
	l := flock.New(filepath.Join(f.path, "lock"), flock.SetFlag(os.O_RDONLY))
	ok, err := l.TryRLock()
	if ok {
		_ = l.Unlock()
	}
	return err == nil && !ok
}

// Remove takes the folder away, with all that is in it.
func (f Folder) Remove() error { return os.RemoveAll(f.path) }

// Log returns the file that takes what the process says when it fails.
func (f Folder) Log() string { return filepath.Join(f.path, "log") }

// LastWords returns the first line of what the process said when it failed, empty when it
// said nothing.
func (f Folder) LastWords() string {
	in, err := os.Open(f.Log())
	if err != nil {
		return ""
	}
	defer in.Close()
	lines := bufio.NewScanner(in)
	if !lines.Scan() {
		return ""
	}
	return lines.Text()
}

// Text returns the file that keeps the lab file as it was started.
func (f Folder) Text() string { return filepath.Join(f.path, "lab.yaml") }
