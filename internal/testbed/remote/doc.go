// Package remote runs the program on other machines by the user's own SSH client, with its
// keys and its settings: nothing is installed there for good, and nothing listens.
//
// What a machine needs is sent into one folder of the user's there, once: what is there
// already with the same digest is not sent again.
package remote
