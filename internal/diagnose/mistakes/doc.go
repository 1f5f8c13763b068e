// Package mistakes makes labs in which one thing is wrong: each a copy of a lab
// with a small change to it, such as people make by hand.
package mistakes
