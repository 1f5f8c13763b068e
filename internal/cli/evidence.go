package cli

import (
	"bytes"
	"crypto/ed25519"
	"errors"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"path/filepath"
	"slices"
	"time"

	"openbastion/internal/api"
	"openbastion/internal/classroom/bundle"
	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/format/qr"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// verifyFrom puts evidence of guests together, and judges it.
func (a *app) verifyFrom(file string, trust trusted, from, reports []string, replace bool) error {
	p, err := a.load(file)
	if err != nil {
		return err
	}
	token, err := tokenOf(trust.token, p.Name)
	if err != nil {
		return err
	}
	if err := trust.settle(p.Name); err != nil {
		return err
	}
	files, briefs, remarks, err := a.evidence(from, p, byLab(token), trust)
	if err != nil {
		return err
	}
	j := evidence.For(p).Join(files)
	j.Remarks = append(remarks, j.Remarks...)
	doc := j.JudgeWith(p, briefs)
	if a.format == "json" {
		err = a.json(
			api.Joined{Document: doc, Bench: j.Bench, Guests: j.Guests, Silent: j.Missing(p), Remarks: j.Remarks},
		)
	} else {
		a.showJoined(p, j, doc, func() { a.likeliest(p, file, doc, claims.Answers{}) })
	}
	for _, to := range reports {
		if err == nil {
			err = a.report(to, p, doc, nil, replace)
		}
	}
	if err == nil &&
		(doc.Verdict != claims.Holds || slices.ContainsFunc(j.Remarks, func(r evidence.Remark) bool { return r.Refused })) {
		err = failure{status: exitBroken}
	}
	return err
}

// trusted is what decides whether evidence counts: the lab's token, its witness's key, and its age.
type trusted struct {
	token, witness string
	since          time.Duration
	key            ed25519.PublicKey
}

// settle finds the key of the lab's witness: the one that was named, else this machine's own where it has
// one.
func (t *trusted) settle(lab string) (err error) {
	if t.witness != "" {
		t.key, err = witness.ParseKey(t.witness)
		if err != nil {
			return usage("--witness-key: %v", err)
		}
		return nil
	}
	t.key, err = ownWitness(lab)
	return err
}

// byLab returns the tokens of a lab's benches.
func byLab(token witness.Token) func(string) witness.Token {
	return func(bench string) witness.Token {
		if bench == "" {
			return token
		}
		return token.Bench(bench)
	}
}

// evidence reads files of evidence; what is refused becomes a remark.
func (a *app) evidence(
	from []string,
	p *plan.Plan,
	tokens func(string) witness.Token,
	trust trusted,
) (files []evidence.File,
	briefs []evidence.Brief, remarks []evidence.Remark, err error) {
	var record evidence.Record
	kept := false
	for _, name := range from {
		data, err := []byte(name), error(nil)
		if !evidence.IsBrief(data) {
			if data, err = a.read(name, mostPacked); err != nil {
				return nil, nil, nil, err
			}
		}
		if r, is := evidence.ReadRecord(data); is {
			record.Join(r)
			kept = true
			continue
		}
		if data, err = briefIn(data); err != nil {
			remarks = append(remarks, evidence.Remark{File: name, Text: err.Error(), Refused: true})
			continue
		}
		if evidence.IsBrief(data) {
			b, err := evidence.ReadBrief(data, p, tokens)
			if err != nil {
				remarks = append(remarks, evidence.Remark{File: "a brief", Text: err.Error(), Refused: true})
			} else {
				briefs = append(briefs, b)
			}
			continue
		}
		e, err := readEvidence(data, tokens)
		if err != nil {
			remarks = append(remarks, evidence.Remark{File: name, Subject: e.Guest, Text: err.Error(), Refused: true})
			continue
		}
		if why := evidence.Stale(e.Made, time.Now(), trust.since); why != "" {
			remarks = append(remarks, evidence.Remark{File: name, Subject: e.Guest, Text: why, Refused: true})
			continue
		}
		if why := e.Trust(trust.key); why != "" {
			remarks = append(remarks, evidence.Remark{File: name, Subject: e.Guest, Text: why})
		}
		files = append(files, evidence.File{Name: filepath.Base(name), Evidence: e})
	}
	for i := range files {
		if !kept {
			break
		}
		for _, why := range record.Add(p, &files[i].Evidence) {
			remarks = append(remarks, evidence.Remark{File: files[i].Name, Subject: files[i].Guest, Text: why})
		}
	}
	return files, briefs, remarks, nil
}

// briefIn returns the brief that the square code in a picture of a screen says; what is no picture
// as it is.
func briefIn(data []byte) ([]byte, error) {
	if http.DetectContentType(data) != "image/png" {
		return data, nil
	}
	size, err := png.DecodeConfig(bytes.NewReader(data))
	if err == nil && size.Width > qr.MostPoints/max(size.Height, 1) {
		err = fmt.Errorf("%d × %d points are larger than a screen", size.Width, size.Height)
	}
	var p image.Image
	if err == nil {
		p, err = png.Decode(bytes.NewReader(data))
	}
	if err != nil {
		return nil, fmt.Errorf("the picture cannot be read: %w", err)
	}
	for _, text := range qr.ReadPicture(p) {
		if evidence.IsBrief([]byte(text)) {
			return []byte(text), nil
		}
	}
	return nil, errors.New("no readable QR code of a probe in the picture: it must be sharp, upright and complete")
}

// readEvidence reads a file of evidence, or the line that was made of one.
func readEvidence(data []byte, tokens func(string) witness.Token) (evidence.Evidence, error) {
	data, err := bundle.Unpack(data)
	if err != nil {
		return evidence.Evidence{}, err
	}
	return evidence.Read(data, tokens)
}

func (a *app) showJoined(p *plan.Plan, j evidence.Joined, doc verdict.Document, more func()) {
	s := a.screen()
	if a.quiet {
		a.showVerdict(s, doc, nil)
		return
	}
	title := "from the evidence of " + count(len(j.Guests), "machine", "machines")
	if j.Bench != "" {
		title = j.Bench + ": " + title
	}
	if !j.Made.IsZero() {
		title += ", " + j.Made.Local().Format("2006-01-02 15:04")
	}
	showTitle(s, p, title)
	for _, r := range j.Remarks {
		sign := signNote
		if r.Refused {
			sign = s.paint(broken, signBroken)
		}
		where := r.File
		if where == "" {
			where = r.Subject
		}
		s.para(2, 4, plain, fmt.Sprintf("%s %s: %s", sign, where, r.Text))
	}
	if missing := j.Missing(p); len(missing) > 0 {
		s.para(2, 4, plain, fmt.Sprintf("%s nothing was received from %s", signUnknown, listed(missing)))
	}
	s.line()
	a.showVerdict(s, doc, more)
}

// listed says names with commas, of many only the first.
func listed(names []string) string {
	const most = 8
	text := ""
	for i, n := range names {
		if i == most {
			return text + fmt.Sprintf(" and %d more", len(names)-most)
		}
		if i > 0 {
			text += ", "
		}
		text += n
	}
	return text
}
