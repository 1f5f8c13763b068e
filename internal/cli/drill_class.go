package cli

import (
	"cmp"
	"crypto/ecdh"
	"crypto/hmac"
	"crypto/hpke"
	"crypto/rand"
	"encoding/base32"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"openbastion/internal/atomicfile"
	"openbastion/internal/diagnose"
	"openbastion/internal/diagnose/drill"
	"openbastion/internal/model/lab"
	"openbastion/internal/model/plan"
)

// codePrefix begins the code of a drill of a class.
const codePrefix = "OBD2."

var codeLetters = base32.StdEncoding.WithPadding(base32.NoPadding)

// seedPrefix begins what a lab's record keeps of a drill that anybody may plant again.
const seedPrefix = "seed:"

// saltSize is how many random bytes a sealed drill is drawn by.
const saltSize = 8

// drillCode writes level and salt as a code, with a sum against slips of typing. Its answer stands in
// the teacher's sheet alone.
func drillCode(level int, salt []byte) string {
	b := append([]byte{byte(level)}, salt...)
	return codePrefix + codeLetters.EncodeToString(binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b)))
}

// readCode reads what drillCode wrote.
func readCode(text string) (level int, salt []byte, err error) {
	rest, ok := strings.CutPrefix(strings.ToUpper(strings.TrimSpace(text)), codePrefix)
	b, bad := codeLetters.DecodeString(rest)
	if !ok || bad != nil || len(b) != 1+saltSize+4 ||
		crc32.ChecksumIEEE(b[:1+saltSize]) != binary.BigEndian.Uint32(b[1+saltSize:]) {
		return 0, nil, usage("%q is not a drill code; a code begins with %s, and every letter counts", text, codePrefix)
	}
	if b[0] < 1 || b[0] > drill.Levels {
		return 0, nil, usage("the code is for a level %d drill, which this program does not know", b[0])
	}
	return int(b[0]), b[1 : 1+saltSize], nil
}

// resultMark begins the result of a drill of a class.
const resultMark = "OBDR2"

// resultLine returns how a drill of a class went. proof is empty where it was not solved.
func resultLine(code, proof string, looks, wrong, points int) string {
	body := fmt.Sprintf("%s %s %d %d %d", code, cmp.Or(proof, "-"), looks, wrong, points)
	return fmt.Sprintf("%s %s %08x", resultMark, body, crc32.ChecksumIEEE([]byte(body)))
}

// result is one result line, held against the teacher's sheet.
type result struct {
	code                 string
	solved               bool
	looks, wrong, points int
}

// readResult reads a result line. That the mistake was found is proved by it; looks and points are the
// student's word.
func readResult(line string, sheet answerSheet) (r result, err error) {
	var mark, proof, sum string
	n, _ := fmt.Sscanf(line, "%s %s %s %d %d %d %s", &mark, &r.code, &proof, &r.looks, &r.wrong, &r.points, &sum)
	body := strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(line), resultMark+" "), " "+sum)
	if n != 7 || mark != resultMark || sum != fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte(body))) {
		return r, errors.New("not a result, or a letter of it is wrong")
	}
	for _, d := range sheet.Drills {
		if d.Code != r.code {
			continue
		}
		if r.solved = hmac.Equal([]byte(proof), []byte(drill.Proof(d.Code, d.Mistakes))); !r.solved && proof != "-" {
			return r, errors.New("it does not prove that the mistake was found")
		}
		if !r.solved {
			r.points = 0
		}
		return r, nil
	}
	return r, errors.New("its code is not on this sheet")
}

// keyLine begins a key file.
const keyLine = "openbastion.teacher-key/1"

// What answers are sealed by: hybrid encryption to a public key (RFC 9180).
var (
	sealKEM  = hpke.DHKEM(ecdh.X25519())
	sealKDF  = hpke.HKDFSHA256()
	sealAEAD = hpke.AES128GCM()
	sealFor  = []byte("openbastion answers of drills")
)

// teacherKey reads a teacher's key, or makes it.
func (a *app) teacherKey(file string, make bool) (hpke.PrivateKey, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) && make {
		key, err := sealKEM.GenerateKey()
		if err != nil {
			return nil, fmt.Errorf("no key can be made: %w", err)
		}
		secret, err := key.Bytes()
		if err != nil {
			return nil, fmt.Errorf("no key can be made: %w", err)
		}
		text := keyLine + "\n" + base64.StdEncoding.EncodeToString(secret) + "\n"
		if err := atomicfile.Write(file, []byte(text), atomicfile.Options{Private: true}); err != nil {
			return nil, notWritten(err)
		}
		a.note("the teacher's key is in " + file + ": keep it, and do not hand it out")
		return key, nil
	}
	if err != nil {
		return nil, usage("cannot read the key %s: %v", file, cause(err))
	}
	head, body, _ := strings.Cut(strings.TrimSpace(string(data)), "\n")
	secret, bad := base64.StdEncoding.DecodeString(strings.TrimSpace(body))
	key, worse := sealKEM.NewPrivateKey(secret)
	if head != keyLine || bad != nil || worse != nil {
		return nil, usage("%s is not a teacher's key", file)
	}
	return key, nil
}

// answerSheet is what only the teacher reads.
type answerSheet struct {
	Schema string        `json:"schema"`
	Lab    string        `json:"lab"`
	Drills []sheetAnswer `json:"drills"`
}

type sheetAnswer struct {
	Number   int      `json:"number"`
	Code     string   `json:"code"`
	Mistakes []string `json:"mistakes"`
	Says     []string `json:"symptoms"`
	Fewest   int      `json:"fewest_looks"`
}

// drillsForClass writes a drill for each of a class, and the sealed answers.
func (a *app) drillsForClass(p *plan.Plan, o drillOptions) error {
	key, err := a.teacherKey(o.key, true)
	if err != nil {
		return err
	}
	s, err := a.study(p)
	if err != nil {
		return err
	}
	sheet := answerSheet{Schema: "openbastion.drill-answers/1", Lab: p.Name}
	deck := deck{study: s, level: o.level, dealt: map[string]bool{}, known: map[string]*drill.Drill{}}
	files := map[string][]byte{}
	for n := 1; n <= o.class; n++ {
		d, code, err := deck.deal()
		if err != nil {
			return failure{exitUsage, err.Error(), ""}
		}
		one := sheetAnswer{Number: n, Code: code, Fewest: d.Fewest()}
		for _, m := range d.Mistakes {
			one.Mistakes, one.Says = append(one.Mistakes, m.ID()), append(one.Says, m.String())
		}
		sheet.Drills = append(sheet.Drills, one)
		text := fmt.Sprintf(
			"Drill %d, lab %s, level %d\n\nReported: %s.\n\nFind the mistake:\n\n  bastion drill %s --code %s\n",
			n,
			p.Name,
			o.level,
			strings.Join(d.Complaint(), "; "),
			p.Lab.File,
			code,
		)
		files[fmt.Sprintf("drill-%03d.txt", n)] = []byte(text)
	}
	plainText, err := json.MarshalIndent(sheet, "", "  ")
	if err != nil {
		return err
	}
	sealed, err := hpke.Seal(key.PublicKey(), sealKDF, sealAEAD, sealFor, plainText)
	if err != nil {
		return fmt.Errorf("the answers cannot be sealed: %w", err)
	}
	files["answers.sealed"] = []byte(base64.StdEncoding.EncodeToString(sealed) + "\n")
	if err := os.MkdirAll(o.to, 0o755); err != nil {
		return notWritten(err)
	}
	for name, data := range files {
		if err := a.writeNew(filepath.Join(o.to, name), data, o.replace); err != nil {
			return err
		}
	}
	a.note(fmt.Sprintf("%s in %s; the answers are in answers.sealed, which `bastion drill --open %s --key %s` opens",
		count(o.class, "drill", "drills"), o.to, filepath.Join(o.to, "answers.sealed"), o.key))
	return nil
}

// openSheet shows a sealed answer sheet.
func (a *app) openSheet(o drillOptions) error {
	key, err := a.teacherKey(o.key, false)
	if err != nil {
		return err
	}
	data, err := a.read(o.open, mostPacked)
	if err != nil {
		return err
	}
	sealed, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(data)))
	if err != nil {
		return usage("%s is not a sealed answer sheet", o.open)
	}
	plainText, err := hpke.Open(key, sealKDF, sealAEAD, sealFor, sealed)
	if err != nil {
		return usage("%s was sealed for another key, or was changed", o.open)
	}
	var sheet answerSheet
	if err := json.Unmarshal(plainText, &sheet); err != nil {
		return usage("%s is not an answer sheet: %v", o.open, err)
	}
	s := a.screen()
	s.line(s.paint(strong, sheet.Lab), "  ", s.paint(faint, "answers of "+count(len(sheet.Drills), "drill", "drills")))
	t := table{head: []string{"drill", "code", "the mistake", "fewest looks"}}
	for _, d := range sheet.Drills {
		t.add(fmt.Sprint(d.Number), d.Code, strings.Join(d.Says, "; and "), fmt.Sprint(d.Fewest))
	}
	s.table(t)
	return a.showResults(s, sheet, o.results)
}

// showResults shows what students handed in, each line held against the sheet; of several for one drill
// the first that is solved counts.
func (a *app) showResults(s *screen, sheet answerSheet, file string) error {
	if file == "" {
		return nil
	}
	data, err := a.read(file, lab.MaxSize)
	if err != nil {
		return err
	}
	best := map[string]result{}
	for n, line := range strings.Split(string(data), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		r, err := readResult(line, sheet)
		if err != nil {
			s.para(2, 4, plain, fmt.Sprintf("%s line %d: %v", s.paint(broken, signBroken), n+1, err))
			continue
		}
		if old, there := best[r.code]; !there || r.solved && !old.solved {
			best[r.code] = r
		}
	}
	s.line()
	t := table{head: []string{"drill", "result", "looks", "wrong answers", "points"}}
	for _, d := range sheet.Drills {
		r, there := best[d.Code]
		switch {
		case !there:
			t.add(fmt.Sprint(d.Number), cell{"nothing handed in", faint})
		case r.solved:
			t.add(
				fmt.Sprint(d.Number),
				signHolds+" found",
				fmt.Sprint(r.looks),
				fmt.Sprint(r.wrong),
				fmt.Sprint(r.points),
			)
		default:
			t.add(
				fmt.Sprint(d.Number),
				cell{signBroken + " not found", broken},
				fmt.Sprint(r.looks),
				fmt.Sprint(r.wrong),
				"0",
			)
		}
	}
	s.table(t)
	s.para(2, 2, faint, "That a mistake was found is proved; looks and points are the student's own word.")
	return nil
}

// triesForNew is how often another drill is drawn before all there are count as dealt.
const triesForNew = 100

// deck is the drills of a lab, of which each is dealt once before any is dealt again.
type deck struct {
	study *diagnose.Study
	level int
	dealt map[string]bool
	known map[string]*drill.Drill // as they look, by what is planted
}

// deal draws a drill, and returns its code.
func (k *deck) deal() (*drill.Drill, string, error) {
	for try := 1; ; try++ {
		salt := make([]byte, saltSize)
		if _, err := rand.Read(salt); err != nil {
			return nil, "", fmt.Errorf("no drill can be drawn: %w", err)
		}
		planted, err := drill.Sealed(k.study, k.level, salt)
		if err != nil {
			return nil, "", err
		}
		name := ""
		for _, m := range planted {
			name += m.ID() + " "
		}
		if try == triesForNew {
			clear(k.dealt)
		}
		if k.dealt[name] {
			continue
		}
		k.dealt[name] = true
		if k.known[name] == nil {
			if k.known[name], err = drill.NewSealed(k.study, k.level, salt, nil); err != nil {
				return nil, "", err
			}
		}
		return k.known[name], drillCode(k.level, salt), nil
	}
}
