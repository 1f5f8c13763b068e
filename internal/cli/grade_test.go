package cli

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openbastion/internal/classroom/evidence"
	"openbastion/internal/classroom/grade"
	"openbastion/internal/classroom/witness"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
	"openbastion/internal/testbed/field"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/verdict"
)

// classWork writes the evidence that benches of the sample lab hand in: an archive for each, of
// what the rehearsal saw; the last guest's is missing in every third.
func classWork(t testing.TB, benches int) (folder string, args []string) {
	folder = t.TempDir()
	t.Setenv("XDG_STATE_HOME", folder+"/state")
	sample, err := os.ReadFile("../../examples/saltmarsh.yaml")
	require.NoError(t, err)
	lab := folder + "/lab.yaml"
	require.NoError(t, os.WriteFile(lab, sample, 0o600))
	a := &app{}
	p, err := a.load(lab)
	require.NoError(t, err)
	_, got, err := claims.Run(t.Context(), p, simulator.New(p))
	require.NoError(t, err)
	token := witness.Token{7}
	for b := range benches {
		bench := fmt.Sprintf("saltmarsh-%03d", b+1)
		var files []string
		for i, who := range []string{"heron", "otter", "ferry", "sluice", field.Outside, "newt"} {
			if i == 5 && b%3 == 0 {
				continue
			}
			e := evidence.Evidence{
				Lab:     p.Name,
				Bench:   bench,
				Guest:   who,
				Print:   p.Fingerprint(),
				Asks:    claims.Digest(p),
				Made:    time.Unix(1e9, 0),
				Facts:   got.Facts,
				Reports: [][]byte{},
				Answers: seenBy(p, who, got),
			}
			data, err := e.Sign(token.Bench(bench).Evidence())
			require.NoError(t, err)
			file := filepath.Join(folder, bench+"-"+who+".ev")
			require.NoError(t, os.WriteFile(file, data, 0o600))
			files = append(files, file)
		}
		var out, errs bytes.Buffer
		pack := append([]string{"pack", lab, "--to", filepath.Join(folder, bench+".zip")}, files...)
		require.Zero(t, Main(pack, nil, &out, &errs), errs.String())
		args = append(args, filepath.Join(folder, bench+".zip"))
	}
	require.NoError(
		t,
		os.WriteFile(
			folder+"/rubric.yaml",
			[]byte("bastion-rubric: 1\npass: 10\npoints:\n  - {claim: dhcp, worth: 3}\n"+
				"  - {claim: outside, worth: 3}\n  - {check: clean, worth: 1}\n  - {evidence: all, worth: 4}\n"),
			0o600,
		),
	)
	return folder, append([]string{"grade", folder + "/rubric.yaml", "--lab", lab, "--token", token.String()}, args...)
}

// seenBy returns the answers that are a machine's own.
func seenBy(p *plan.Plan, who string, got claims.Answers) (out []claims.Answer) {
	asked := map[string]claims.Asking{}
	for _, q := range claims.Questions(p, got.Facts) {
		asked[q.ID] = q.Ask
	}
	for _, a := range got.Answers {
		if evidence.Of(who, asked[a.ID]) {
			out = append(out, a)
		}
	}
	return out
}

// A class is graded by bench: points for what holds, a share for what does in part, and why.
func TestGradeClass(t *testing.T) {
	folder, args := classWork(t, 4)
	var out, errs bytes.Buffer
	require.Zero(t, Main(append(args, "--format", "json", "--page", folder+"/pages"), nil, &out, &errs), errs.String())
	var doc struct {
		Cards []grade.Card `json:"cards"`
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &doc))
	require.Len(t, doc.Cards, 4)
	for i, c := range doc.Cards {
		whole := i%3 != 0
		assert.Equal(t, fmt.Sprintf("saltmarsh-%03d", i+1), c.Bench)
		assert.Equal(t, 11, c.Of)
		assert.Equal(t, whole, *c.Passed, "%v", c)
		if whole {
			assert.InDelta(t, 11, c.Points, 1e-9, "%v", c.Items)
		} else {
			assert.InDelta(t, 2+3+1+3, c.Points, 1e-9, "%v", c.Items)
			assert.Contains(t, c.Items[3].Missing, "nothing was received from newt")
		}
		page, err := os.ReadFile(filepath.Join(folder, "pages", c.Bench+".html"))
		require.NoError(t, err)
		assert.Contains(t, string(page), c.Bench)
	}
	// A brief, as it is read off a square code, makes up for a file that did not come out.
	a := &app{}
	p, err := a.load(folder + "/lab.yaml")
	require.NoError(t, err)
	whole, got, err := verdict.Run(t.Context(), p, simulator.New(p))
	require.NoError(t, err)
	e := evidence.Evidence{
		Lab:   p.Name,
		Bench: "saltmarsh-001",
		Guest: "newt",
		Print: p.Fingerprint(),
		Asks:  claims.Digest(p),
		Made:  time.Unix(1e9, 0),
		Facts: got.Facts,
	}
	brief := e.Brief(p, whole, witness.Token{7}.Bench(e.Bench).Evidence())
	out.Reset()
	require.Zero(t, Main(append(args, brief, "--format", "json"), nil, &out, &errs), errs.String())
	require.NoError(t, json.Unmarshal(out.Bytes(), &doc))
	assert.InDelta(t, 11, doc.Cards[0].Points, 1e-9, "%v", doc.Cards[0])
	altered := brief[:len(brief)-4] + "AAAA"
	out.Reset()
	require.Zero(t, Main(append(args, altered), nil, &out, &errs), errs.String())
	assert.Contains(t, errs.String(), "a brief: ")
	out.Reset()
	assert.Equal(t, exitUsage, Main([]string{"grade", folder + "/rubric.yaml", "--self", args[5]}, nil, &out, &errs))
}

// BenchmarkGrade is a class of 200 benches, from their archives to the table.
func BenchmarkGrade(b *testing.B) {
	_, args := classWork(b, 200)
	for b.Loop() {
		var out, errs bytes.Buffer
		require.Zero(b, Main(args, nil, &out, &errs), errs.String())
	}
}

// A hostile bench changes its own card at most: archives that unpack to much, signed evidence that
// decodes to much, others' evidence and briefs replayed, records for others, names that lead elsewhere.
func TestHostileHandIns(t *testing.T) {
	folder, args := classWork(t, 3)
	cards := func(more ...string) (map[string]grade.Card, string) {
		var out, errs bytes.Buffer
		require.LessOrEqual(
			t,
			Main(append(append(slices.Clone(args), more...), "--format", "json"), nil, &out, &errs),
			1,
			errs.String(),
		)
		var doc struct {
			Cards []grade.Card `json:"cards"`
		}
		require.NoError(t, json.Unmarshal(out.Bytes(), &doc))
		by := map[string]grade.Card{}
		for _, c := range doc.Cards {
			by[c.Bench] = c
		}
		return by, out.String() + errs.String()
	}
	honest, _ := cards()
	token, mine := witness.Token{7}, "saltmarsh-003"
	sign := func(name string, e evidence.Evidence, as string) string {
		data, err := e.Sign(token.Bench(as).Evidence())
		require.NoError(t, err)
		file := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		return file
	}
	zipped := func(name string, parts ...[2]string) string {
		var out bytes.Buffer
		w := zip.NewWriter(&out)
		sums := ""
		for _, p := range parts {
			f, err := w.Create(p[0])
			require.NoError(t, err)
			_, err = f.Write([]byte(p[1]))
			require.NoError(t, err)
			sums += fmt.Sprintf("%x  %s\n", sha256.Sum256([]byte(p[1])), p[0])
		}
		f, err := w.Create(packSums)
		require.NoError(t, err)
		_, err = f.Write([]byte(sums))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		file := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(file, out.Bytes(), 0o600))
		return file
	}
	read := func(name string) string {
		data, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		return string(data)
	}
	e := evidence.Evidence{Lab: "saltmarsh", Bench: mine, Guest: "heron", Made: time.Unix(1e9, 0), Reports: [][]byte{}}
	elsewhere, other := e, e
	elsewhere.Bench = "../../elsewhere"
	other.Bench = "saltmarsh-001"
	many := `{"schema":"openbastion.evidence/1","bench":"` + mine + `","answers":[` + strings.Repeat(
		"{},",
		2_000_000,
	) + `{}]}`
	key := token.Bench(mine).Evidence()
	signed, err := json.Marshal(evidence.Signed{Schema: evidence.SignedSchema, Evidence: []byte(many),
		Signature: ed25519.Sign(key, append([]byte("openbastion evidence 1\n"), many...))})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(folder+"/many.ev", signed, 0o600))
	record := "| step | outcome |\n|---|---|\n| all | skipped |\n"
	hostile := []string{
		zipped("bomb.zip", [2]string{packEvidence + "a.ev", strings.Repeat("0", mostPiece+1)}),
		zipped("twice.zip", [2]string{packEvidence + "a.ev", "x"}, [2]string{packEvidence + "a.ev", "y"}),
		zipped("replay.zip", [2]string{packEvidence + "a.ev", read(mine + "-heron.ev")},
			[2]string{packEvidence + "b.ev", read("saltmarsh-001-heron.ev")}, [2]string{packRecord, record}),
		sign("elsewhere.ev", elsewhere, elsewhere.Bench),
		sign("other.ev", other, mine), // signed by the wrong bench
		filepath.Join(folder, "many.ev"),
		filepath.Join(folder, "not-there.zip"),
	}
	begin := time.Now()
	got, said := cards(hostile...)
	for bench, want := range honest {
		if bench != mine {
			assert.Equal(t, want.Points, got[bench].Points, bench)
		}
	}
	assert.Len(t, got, len(honest))
	assert.Less(t, time.Since(begin), 30*time.Second)
	for _, why := range []string{"bomb.zip: not readable", "twice.zip: not readable", "the archive is for saltmarsh-003",
		"its bench: ", "it was altered", "more than any probe writes", "not-there.zip: "} {
		assert.Contains(t, said, why)
	}
	var out, errs bytes.Buffer
	old := append(slices.Clone(args), "--since", "24h", "--format", "json")
	require.LessOrEqual(t, Main(old, nil, &out, &errs), 1)
	assert.Contains(t, out.String()+errs.String(), "older than wanted")
}
