//go:build !race

package drive

const raceEnabled = false
