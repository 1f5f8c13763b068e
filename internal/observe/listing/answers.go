package listing

import "strings"

// answered takes questions of a console and what somebody typed there.
func (r *reader) answered(line string) bool {
	text := strings.TrimSpace(line)
	if r.asked != nil {
		value, prompted := strings.CutPrefix(text, ">")
		if value = strings.TrimSpace(value); prompted ||
			len(strings.Fields(value)) == 1 && value != "" && !strings.HasSuffix(value, ":") {
			if value != "" {
				r.typed(r.asked.Question, value)
			}
			r.asked = nil
			return true
		}
		r.asked = nil
	}
	at := strings.LastIndexAny(text, ":?>")
	if at < 0 || !question.MatchString(text[:at]) || len(strings.Fields(text[at+1:])) > 1 ||
		strings.HasPrefix(text, "http") {
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
	r.typed(a.Question, a.Text)
	return true
}

// typed keeps what somebody typed at a question, on the line at hand.
func (r *reader) typed(question, text string) {
	if len(r.out.Answers) < maxKept {
		r.out.Answers = append(r.out.Answers, Answer{question, text, r.n})
	}
}
