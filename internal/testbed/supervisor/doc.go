// Package supervise keeps labs that run: one process for each, which outlives the
// terminal that started it, holds all of the lab in itself, and answers those who ask by
// a socket in the user's state folder.
//
// The process is the first of a process namespace and of a mount namespace of its own:
// whatever it started ends with it, and what it mounted is gone, however it ends. Its
// record is written before each change, so that a lab whose process was killed is told
// from one that was stopped.
package supervisor
