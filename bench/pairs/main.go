// Command pairs times two commands in turn, as whole processes: pairs RUNS
// 'COMMAND A' 'COMMAND B'. It prints the median of each, of the ratios A/B, and
// the largest memory either took.
package main

import (
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"
)

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "usage: pairs RUNS 'COMMAND A' 'COMMAND B'")
		os.Exit(2)
	}
	runs, err := strconv.Atoi(os.Args[1])
	if err != nil || runs < 1 {
		fmt.Fprintln(os.Stderr, "pairs: RUNS is a number from 1")
		os.Exit(2)
	}
	var a, b, ratios []float64
	for i := range runs + 3 {
		x, y := run(os.Args[2]), run(os.Args[3])
		if i < 3 {
			continue // warm-up
		}
		a, b, ratios = append(a, x), append(b, y), append(ratios, x/y)
	}
	fmt.Printf(
		"A %.2f ms, B %.2f ms, A/B %.2f (medians of %d pairs)\n",
		1e3*median(a),
		1e3*median(b),
		median(ratios),
		runs,
	)
}

func run(command string) float64 {
	words := strings.Fields(command)
	began := time.Now()
	if err := exec.Command(words[0], words[1:]...).Run(); err != nil {
		fmt.Fprintln(os.Stderr, "pairs:", command, err)
		os.Exit(1)
	}
	return time.Since(began).Seconds()
}

func median(list []float64) float64 {
	slices.Sort(list)
	return list[len(list)/2]
}
