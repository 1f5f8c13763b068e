// Package batch writes what runs the benches of a class under somebody else's care: an array job of the batch system Slurm,
// and a unit of the service manager systemd. Both do no more than call the program in the foreground: queueing, limits,
// restart and accounting are theirs.
package batch
