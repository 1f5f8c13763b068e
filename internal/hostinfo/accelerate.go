package hostinfo

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"runtime"
	"time"
)

// TryCommand is the hidden command with which the program starts itself to try
// the accelerator: a virtual processor that hangs must not hang the survey.
const TryCommand = "try-accelerator"

// deadline for the try: a million steps take an accelerated processor a few
// milliseconds. Some machines have the device, answer every call, and are a
// thousand times too slow; only a finished loop in time counts.
const deadline = 250 * time.Millisecond

var errUntested = errors.New("it is not tested on this system")

// Accelerate finds out whether virtual machines can be accelerated, by having
// a child process try, and puts it into the report.
func (r *Report) Accelerate() {
	if runtime.GOOS != "linux" || runtime.GOARCH != "amd64" {
		r.Accelerated, r.Why = Unknown, errUntested.Error()
		r.Unseen = append(r.Unseen, "acceleration: "+r.Why)
		return
	}
	self, err := os.Executable()
	if err != nil {
		r.Accelerated, r.Why = Unknown, err.Error()
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), deadline)
	defer cancel()
	out, err := exec.CommandContext(ctx, self, TryCommand).CombinedOutput()
	switch {
	case ctx.Err() != nil:
		r.Accelerated, r.Why = No, "the accelerator is there and far too slow: a million steps took longer than "+deadline.String()
	case err != nil:
		why := string(out)
		if why == "" {
			why = err.Error()
		}
		r.Accelerated, r.Why = No, why
	default:
		r.Accelerated, r.Why = Yes, "a virtual processor ran a million steps in time"
	}
}
