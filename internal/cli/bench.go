package cli

import (
	"os"
	"strconv"
)

// arrayTask is the environment's number of a job in an array of a batch system.
const arrayTask = "SLURM_ARRAY_TASK_ID"

// benchOfArray takes the number of the bench from the environment of a job array, where none was named.
func (o *startOptions) benchOfArray() error {
	text := os.Getenv(arrayTask)
	if o.bench > 0 || text == "" {
		return nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return usage("%s is a number from 1, not %q: name the bench (--bench N)", arrayTask, text)
	}
	o.bench = n
	return nil
}
