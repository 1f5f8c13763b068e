package listing

import "strings"

// answered takes questions of a console and what somebody typed there.
func (r *reader) answered(line string) bool {
	text := strings.TrimSpace(line)
	if r.asked != nil {
		value, prompted := strings.CutPrefix(text, ">")
		if value = strings.TrimSpace(value); prompted || len(strings.Fields(value)) == 1 && value != "" && !strings.HasSuffix(value, ":") {
			if value != "" && len(r.out.Answers) < maxKept {
				r.asked.Text, r.asked.Line = value, r.n
				r.out.Answers = append(r.out.Answers, *r.asked)
			}
			r.asked = nil
			return true
		}
		r.asked = nil
	}
	at := strings.LastIndexAny(text, ":?>")
	if at < 0 || !question.MatchString(text[:at]) || len(strings.Fields(text[at+1:])) > 1 || strings.HasPrefix(text, "http") {
		return false
	}
	if i := strings.Index(text, ": "); i > 0 && i < at && question.MatchString(text[:i]) {
		at = i
	}
	a := Answer{Question: strings.TrimSpace(text[:at]), Text: strings.TrimSpace(text[at+1:]), Line: r.n}
	if a.Text == "" {
		r.asked = &a
		return true
	}
	if len(r.out.Answers) < maxKept {
		r.out.Answers = append(r.out.Answers, a)
	}
	return true
}
