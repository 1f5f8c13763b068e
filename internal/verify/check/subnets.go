package check

import (
	"fmt"

	"openbastion/internal/model/plan"
)

// whySubnet says which subnet a segment has, and what says so.
func whySubnet(s *plan.Segment) string {
	if s.By != "" {
		return s.By + " on " + s.Name
	}
	return fmt.Sprintf("%s is %s", s.Name, s.Subnet)
}

// useOf is the remedy for an address outside its segment's subnet: another address, or, where an
// address and not the file's subnet decides, a subnet.
func useOf(s *plan.Segment) string {
	text := "use an address of " + s.Subnet.String()
	if s.By != "" {
		text += ", or set " + s.Name + " the right subnet"
	}
	return text
}
