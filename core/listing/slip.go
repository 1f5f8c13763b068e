package listing

import (
	"fmt"
	"slices"
	"strings"

	"openbastion/core/subnet"
)

// Slip looks for the first address or mask in a listing that cannot be one,
// and says what was most likely meant; empty when all is well. What systems
// print has no slips: a person typed it.
func Slip(text string) string {
	for n, line := range strings.Split(text[:min(len(text), MaxSize)], "\n") {
		low := strings.ToLower(line)
		told := slices.ContainsFunc([]string{"addr", "inet", "mask", "gateway", "router", "via", "nameserver", "dns"},
			func(w string) bool { return strings.Contains(low, w) })
		for word := range strings.FieldsFuncSeq(line, func(c rune) bool {
			return (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && !strings.ContainsRune("./:-_", c)
		}) {
			word = strings.Trim(word, ".:-_/")
			if strings.Trim(word, "0123456789./") != "" || strings.Count(word, ".") < 3 {
				continue // a name, a version or a count
			}
			head, _, long := strings.Cut(word, "/")
			first, _, _ := strings.Cut(head, ".")
			if !told && !slices.Contains([]string{"10", "100", "169", "172", "192", "198", "203", "255"}, first) {
				continue
			}
			var err error
			switch {
			case first == "255" && !long && head != "255.255.255.255":
				_, err = subnet.ParsePrefix("0.0.0.0/" + head)
			case long:
				_, err = subnet.ParsePrefix(word)
			default:
				_, err = subnet.ParseAddr(word)
			}
			if err != nil {
				return fmt.Sprintf("line %d: %v", n+1, err)
			}
		}
	}
	return ""
}
