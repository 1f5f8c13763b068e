package evidence

import (
	"bytes"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/examples"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/mac"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

var (
	master = witness.Token{7}
	made   = time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
)

// told returns the evidence that a lab's guests would give, and somebody outside: each what is its
// own, as the rehearsal saw it.
func told(t testing.TB, file string) (*plan.Plan, verdict.Document, []File) {
	text, err := examples.Labs.ReadFile(file)
	require.NoError(t, err)
	l, err := lab.Read(file, text)
	require.NoError(t, err)
	p, err := plan.Build(l)
	require.NoError(t, err)
	doc, got, err := verdict.Run(t.Context(), p, simulator.New(p))
	require.NoError(t, err)
	by := map[string][]claims.Answer{}
	for _, q := range claims.Questions(p, got.Facts) {
		for _, a := range got.Answers {
			if a.ID == q.ID {
				by[whose(p, q.Ask)] = append(by[whose(p, q.Ask)], a)
			}
		}
	}
	var files []File
	for who, answers := range by {
		files = append(
			files,
			File{
				who + ".ev",
				Evidence{
					Schema:  Schema,
					Lab:     p.Name,
					Guest:   who,
					Print:   p.Fingerprint(),
					Asks:    claims.Digest(p),
					Made:    made,
					Facts:   got.Facts,
					Reports: [][]byte{},
					Answers: answers,
				},
			},
		)
	}
	return p, doc, files
}

func whose(p *plan.Plan, what claims.Asking) string {
	for _, m := range p.Machines {
		if Of(m.Name, what) {
			return m.Name
		}
	}
	return Outside
}

// The evidence of all, put together in any order, is judged as the stage was that they saw; of
// some of them, what the others would tell is unknown and what is broken stays broken.
func TestJoined(t *testing.T) {
	for _, file := range []string{"saltmarsh.yaml", "saltmarsh-leaky.yaml", "campus.yaml", "bridge.yaml"} {
		p, want, files := told(t, file)
		files[0].Reports = [][]byte{{1}} // somebody reached the witness
		got := For(p).Join(files)
		assert.Empty(t, got.Remarks, file)
		whole := got.Judge(p)
		for i, r := range want.Claims {
			assert.Equal(
				t,
				r.Verdict,
				whole.Claims[i].Verdict,
				"%s %s: %s, %s",
				file,
				r.ID,
				r.Observed,
				whole.Claims[i].Observed,
			)
		}
		for i := range files {
			part := For(p).Join(files[i : i+1]).Judge(p)
			for k, r := range part.Claims {
				if r.Verdict != claims.Unknown {
					assert.Equal(t, want.Claims[k].Verdict, r.Verdict, "%s: of %s alone %s", file, files[i].Guest, r.ID)
				}
			}
		}
	}
}

// What is of another plan, another lab, another bench, another witness or older than another
// of the same guest counts for nothing; silence counts only where somebody was heard.
func TestRefused(t *testing.T) {
	p, _, files := told(t, "saltmarsh.yaml")
	var heron File
	for _, f := range files {
		if f.Guest == "heron" {
			heron = f
		}
	}
	change := func(f File, how func(*File)) File {
		f.Name = "other.ev"
		how(&f)
		return f
	}
	for want, other := range map[string]File{
		"it is for another plan":            change(heron, func(f *File) { f.Guest, f.Print = "otter", "other" }),
		"bastion 9.9 asked other questions": change(heron, func(f *File) { f.Guest, f.Asks, f.Program = "otter", "other", "9.9" }),
		"it is for the lab":                 change(heron, func(f *File) { f.Guest, f.Lab = "otter", "other" }),
		"it is from the bench two":          change(heron, func(f *File) { f.Guest, f.Bench = "otter", "two" }),
		"no machine":                        change(heron, func(f *File) { f.Guest = "goose" }),
		"has newer evidence":                change(heron, func(f *File) { f.Made = made.Add(-time.Hour) }),
		"it asked test server": change(heron, func(f *File) {
			f.Guest, f.Facts.Witness.Address, f.Made = "otter", netip.MustParseAddr("192.0.2.9"), made.Add(-time.Hour)
		}),
	} {
		j := For(p).Join([]File{heron, other})
		require.Len(t, j.Remarks, 1, want)
		assert.Contains(t, j.Remarks[0].Text, want)
		assert.True(t, j.Remarks[0].Refused)
		assert.Equal(t, []string{"heron"}, j.Guests)
	}
	for _, order := range []bool{false, true} { // who knows no name of the witness asked the same one
		files := []File{heron, change(heron, func(f *File) { f.Guest, f.Facts.Witness.Name = Outside, "" })}
		if order {
			files[1].Made = made.Add(time.Hour)
		}
		j := For(p).Join(files)
		assert.Empty(t, j.Remarks)
		assert.Equal(t, heron.Facts.Witness, j.Facts.Witness)
	}
	silent := For(p).Join([]File{heron}).Judge(p)
	for _, r := range silent.Claims {
		if r.ID == "heron.no-bypass" {
			assert.Equal(t, claims.Unknown, r.Verdict)
			assert.Contains(t, r.Observed, "silence proves nothing")
		}
	}
}

// Two guests of one segment that were leased their addresses by different servers are told.
func TestContradictions(t *testing.T) {
	p, _, files := told(t, "saltmarsh.yaml")
	for i := range files {
		if files[i].Guest != "otter" {
			continue
		}
		for k, a := range files[i].Answers {
			if g, is := a.Got.(claims.GotLease); is {
				b := *g.Lease
				b.Server, b.ServerMAC = netip.MustParseAddr("10.83.16.254"), mac.Address{2, 1}
				files[i].Answers[k].Got = claims.GotLease{Lease: &b}
			}
		}
	}
	j := For(p).Join(files)
	require.Len(t, j.Remarks, 1)
	assert.Contains(t, j.Remarks[0].Text, "10.83.16.254")
}

// Evidence that was altered in any letter, or signed for another bench, is not read.
func TestSigned(t *testing.T) {
	_, _, files := told(t, "saltmarsh.yaml")
	e := files[0].Evidence
	e.Bench = "saltmarsh-07"
	data, err := e.Sign(master.Bench(e.Bench).Evidence())
	require.NoError(t, err)
	got, err := Read(data, master.Bench)
	require.NoError(t, err)
	assert.Equal(t, e.Guest, got.Guest)
	assert.Len(t, got.Answers, len(e.Answers))
	at := bytes.Index(data, []byte(`"evidence":`))
	for i := at + 12; i < len(data)-2; i += 1 + len(data)/500 {
		altered := bytes.Clone(data)
		altered[i] ^= 1
		_, err := Read(altered, master.Bench)
		assert.Error(t, err, "letter %d, %q", i, data[max(0, i-8):i+8])
	}
	e.Bench = "saltmarsh-08" // with the key of 07
	data, err = e.Sign(master.Bench("saltmarsh-07").Evidence())
	require.NoError(t, err)
	_, err = Read(data, master.Bench)
	require.ErrorIs(t, err, ErrAltered)
	e.Reports, e.Witness = [][]byte{make([]byte, witness.Size)}, make([]byte, 32)
	data, err = e.Sign(master.Bench(e.Bench).Evidence())
	require.NoError(t, err)
	_, err = Read(data, master.Bench)
	require.ErrorIs(t, err, ErrReport)
}

// FuzzRead: whatever is handed in, reading it ends well, and nothing counts that is not signed.
func FuzzRead(f *testing.F) {
	e := Evidence{
		Lab:     "saltmarsh",
		Guest:   "heron",
		Reports: [][]byte{},
		Answers: []claims.Answer{{ID: "x", Missing: "y"}},
	}
	data, err := e.Sign(master.Evidence())
	require.NoError(f, err)
	f.Add(data)
	f.Add([]byte(`{"schema": "openbastion.evidence-signed/1", "evidence": {}, "signature": ""}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		if got, err := Read(data, func(string) witness.Token { return master }); err == nil {
			assert.Equal(t, Schema, got.Schema, fmt.Sprint(got))
		}
	})
}

// A brief fits into a square code that a text screen holds, comes back as it was said, and is
// not taken when a letter is another, or for another plan.
func TestBrief(t *testing.T) {
	p, want, files := told(t, "saltmarsh-leaky.yaml")
	for _, f := range files {
		if p.Machine(f.Guest) == nil && f.Guest != Outside {
			continue
		}
		e := f.Evidence
		e.Bench = "saltmarsh-07"
		text := e.Brief(p, want, master.Bench(e.Bench).Evidence())
		assert.Less(t, len(text), 224, "version 7 of a square code, with letters and digits")
		b, err := ReadBrief([]byte(text[:40]+"\n"+text[40:]), p, master.Bench)
		require.NoError(t, err)
		assert.Equal(t, []any{e.Guest, e.Bench, e.Made}, []any{b.Guest, b.Bench, b.Made})
		doc := For(p).Join(nil).outcome(p)
		b.Add(p, &doc)
		for i, r := range doc.Claims {
			if About(p, e.Guest, r) && want.Claims[i].Verdict != claims.Unknown && r.Verdict != claims.Unknown {
				assert.Equal(t, want.Claims[i].Verdict, r.Verdict, r.ID)
			}
		}
		for i := len(briefMark); i < len(text); i++ {
			altered := []byte(text)
			altered[i] = "ABCD"[i%4]
			if _, err := ReadBrief(altered, p, master.Bench); string(altered) != text && i < len(text)-1 {
				assert.Error(t, err, "letter %d", i)
			}
		}
		other, _, _ := told(t, "saltmarsh.yaml")
		_, err = ReadBrief([]byte(text), other, master.Bench)
		assert.ErrorContains(t, err, "another plan")
	}
}

// FuzzReadBrief: whatever is typed off a square code, reading it ends well.
func FuzzReadBrief(f *testing.F) {
	p, want, files := told(f, "saltmarsh.yaml")
	f.Add([]byte(files[0].Brief(p, want, master.Bench("").Evidence())))
	f.Add([]byte(briefMark + "AE"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if b, err := ReadBrief(data, p, master.Bench); err == nil {
			assert.NotEmpty(t, b.Guest)
		}
	})
}

// What a witness's record holds of forged packets counts for who sent them: as ways out, as
// silence of a witness that listened then, and else for nothing.
func TestRecordOfForged(t *testing.T) {
	at := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	p, _, _ := told(t, "saltmarsh.yaml")
	by := claims.Ref{Machine: "newt", Adapter: 1}
	for name, c := range map[string]struct {
		record         string
		ways, attempts int
		said           string
	}{
		"came":      {`{"time":"2026-11-26T08:00:00Z","run":9,"attempt":1}`, 1, 20, "it received 1 of 2 forged packets"},
		"listened":  {`{"time":"2026-11-26T07:00:00Z","listening":true}`, 0, 22, "it received 0 of 2 forged packets"},
		"deaf":      {`{"time":"2026-11-26T08:00:00Z","bench":"","source":"192.0.2.2:9","hops":60,"way":"udp"}`, 0, 20, ""},
		"too late":  {`{"time":"2026-11-26T09:00:00Z","listening":true}`, 0, 20, ""},
		"another's": {`{"time":"2026-11-26T07:00:00Z","listening":true}` + "\n" + `{"time":"2026-11-26T08:00:00Z","run":8,"attempt":1}`, 0, 22, "it received 0 of 2"},
	} {
		r, is := ReadRecord([]byte(c.record))
		require.True(t, is, name)
		e := Evidence{
			Guest:   "newt",
			Made:    at,
			Answers: []claims.Answer{{ID: "newt.held/1", Got: claims.GotAttack{Attempts: 20}}},
			Runs: []Run{
				{Number: 9, Question: "newt.held/1", Forged: []Forged{{"ping", by}, {"udp/7", by}}, Sent: 2},
			},
		}
		r.Add(p, &e)
		r.Add(p, &e) // once is enough
		got := e.Answers[0].Got.(claims.GotAttack)
		assert.Equal(t, c.attempts, got.Attempts, name)
		require.Len(t, got.Ways, c.ways, name)
		if c.ways > 0 {
			assert.Equal(t, "udp/7", got.Ways[0].Tried)
			assert.Equal(t, []string{"newt", "tidepool", Outside}, got.Ways[0].Path)
		}
		assert.Equal(t, c.said != "", len(e.Answers[0].Evidence) == 1, name)
		if c.said != "" {
			assert.Contains(t, e.Answers[0].Evidence[0].Text, c.said, name)
		}
	}
	late, _ := ReadRecord([]byte(`{"time":"2026-11-26T08:00:00Z","run":9,"attempt":1}`))
	both, _ := ReadRecord([]byte(`{"time":"2026-11-26T07:00:00Z","listening":true}`))
	both.Join(late) // a witness that was started twice
	assert.Equal(t, Record{Listening: at.Add(-time.Hour), Heard: map[uint32][]int{9: {1}}}, both)
	for _, other := range []string{"", "\n", "{}", `{"schema":"x"}`, "ob1.abc", `{"time":"2026-11-26T08:00:00Z"}` + "\n{"} {
		_, is := ReadRecord([]byte(other))
		assert.False(t, is, "%q", other)
	}
}
