// Package live is the page on which a lab that runs is watched: its diagram with what
// moves on it, what is stopped and by which rule, and an escape the moment it happens.
// The page is served on loopback, to whoever has its token, and is told of changes by
// server-sent events.
package live
