package listing

import (
	"regexp"
	"sync"
)

// pattern is a regular expression that is made when it is first used, so that a
// program that reads no listing does not pay for it at its start.
type pattern func() *regexp.Regexp

func form(text string) pattern {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}

// MatchString reports whether it fits some part of a text.
func (p pattern) MatchString(text string) bool { return p().MatchString(text) }

// FindStringSubmatch returns the first part that fits, and its groups; nil for none.
func (p pattern) FindStringSubmatch(text string) []string { return p().FindStringSubmatch(text) }

// FindAllString returns up to n parts that fit, all when n is negative.
func (p pattern) FindAllString(text string, n int) []string { return p().FindAllString(text, n) }

// FindAllStringIndex returns the places of up to n parts that fit.
func (p pattern) FindAllStringIndex(text string, n int) [][]int {
	return p().FindAllStringIndex(text, n)
}

// ReplaceAllString puts another text in place of each part that fits.
func (p pattern) ReplaceAllString(text, by string) string { return p().ReplaceAllString(text, by) }
