// Package examples holds the example labs, for the demo and for tests.
package examples

import "embed"

// Labs is the example lab files.
//
//go:embed *.yaml
var Labs embed.FS
