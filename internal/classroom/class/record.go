package class

import "time"

// Record is what is known of a class that was started, on disk.
type Record struct {
	Schema  string       `json:"schema"`
	Lab     string       `json:"lab"`
	File    string       `json:"file"`            // the lab file, absolute
	Class   string       `json:"class,omitempty"` // the class file, absolute
	Digest  string       `json:"digest"`          // of its text and its profiles
	Stage   string       `json:"stage"`
	Job     string       `json:"job,omitempty"` // the batch system's number for it
	Started time.Time    `json:"started"`
	Hosts   []RecordHost `json:"hosts"`
	Benches []Bench      `json:"benches"`
}

// RecordHost is a host that benches were put on.
type RecordHost struct {
	Name string `json:"host"`
	SSH  string `json:"ssh"`
	Left bool   `json:"left"` // benches may run there that were put elsewhere
}

// RecordSchema names the JSON form of [Record].
const RecordSchema = "openbastion.class-record/1"

// On returns the names of the benches on a host, in order.
func (r Record) On(host string) []string {
	var out []string
	for _, b := range r.Benches {
		if b.Host == host {
			out = append(out, b.Name)
		}
	}
	return out
}
