// Package squarecode draws square codes (ISO/IEC 18004) with the characters of a text screen, and
// reads them from one, or from a picture of one.
package qr

import (
	"strings"

	"rsc.io/qr"
)

// quiet is the light margin of a square code, in modules: half of what the standard asks for
// (ISO/IEC 18004), which is what fits a screen of 25 rows, and readers make do with.
const quiet = 2

// Draw shows a text as a square code, two modules in a character: dark on light, whatever
// the screen's colours are.
func Draw(text string) (string, error) {
	code, err := qr.Encode(text, qr.L)
	if err != nil {
		return "", err
	}
	light := func(x, y int) bool {
		return x < 0 || y < 0 || x >= code.Size || y >= code.Size || !code.Black(x, y)
	}
	var out strings.Builder
	for y := -quiet; y < code.Size+quiet; y += 2 {
		for x := -quiet; x < code.Size+quiet; x++ {
			switch up, down := light(x, y), y+1 >= code.Size+quiet || light(x, y+1); {
			case up && down:
				out.WriteString("█")
			case up:
				out.WriteString("▀")
			case down:
				out.WriteString("▄")
			default:
				out.WriteString(" ")
			}
		}
		out.WriteString("\n")
	}
	return out.String(), nil
}
