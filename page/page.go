// Package page is how the program's HTML pages look: one style, self-contained,
// on a screen and on paper.
package page

import (
	_ "embed"
	"html/template"
)

//go:embed style.css
var style string

// Style is the style sheet that every page carries inside.
func Style() template.CSS { return template.CSS(style) } //nolint:gosec // our own file
