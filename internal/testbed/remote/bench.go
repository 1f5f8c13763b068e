package remote

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
)

// BenchCommand is the hidden command of the program that works on benches where they are.
const BenchCommand = "benches"

// Program is where the program lies in a host's folder.
const Program = "bastion"

// BenchFile returns where a bench's lab file lies in a host's folder.
func BenchFile(bench string) string { return bench + ".yaml" }

// Answer is what became of one bench: a line of what the hidden command says.
type Answer struct {
	Bench  string          `json:"bench"`
	Status int             `json:"status"` // as the program ended
	Result json.RawMessage `json:"result,omitempty"`
	Said   string          `json:"said,omitempty"` // messages
}

// Benches has something done to benches of a host, and hands over what became of each as it
// is known. Arguments go to the program as they are. Where the program is not, nothing is done.
func (h Host) Benches(ctx context.Context, verb string, benches, arguments []string, each func(Answer)) error {
	command := "if test -x ./" + Program + "; then exec ./" + Program + " " + BenchCommand + " " + verb
	for _, word := range append(append(benches[:len(benches):len(benches)], "--"), arguments...) {
		command += " " + Quote(word)
	}
	return h.Run(ctx, command+"; fi", nil, func(line []byte) error {
		var a Answer
		if err := json.Unmarshal(line, &a); err != nil {
			return fmt.Errorf(
				"%s returned %q, which is not from this program",
				h.Name,
				strings.ToValidUTF8(string(line[:min(len(line), 80)]), "?"),
			)
		}
		each(a)
		return nil
	})
}
