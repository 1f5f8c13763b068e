package cli

import (
	"crypto/ecdh"
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
	"openbastion/internal/model/plan"
)

// codePrefix begins the code of a drill of a class.
const codePrefix = "OBD1."

var codeLetters = base32.StdEncoding.WithPadding(base32.NoPadding)

// drillCode writes level and seed as a code, with a sum against slips of typing.
func drillCode(level int, seed uint64) string {
	b := append([]byte{byte(level)}, binary.BigEndian.AppendUint64(nil, seed)...)
	return codePrefix + codeLetters.EncodeToString(binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b)))
}

// readCode reads what drillCode wrote.
func readCode(text string) (level int, seed uint64, err error) {
	rest, ok := strings.CutPrefix(strings.ToUpper(strings.TrimSpace(text)), codePrefix)
	b, bad := codeLetters.DecodeString(rest)
	if !ok || bad != nil || len(b) != 13 || crc32.ChecksumIEEE(b[:9]) != binary.BigEndian.Uint32(b[9:]) {
		return 0, 0, usage("%q is not a drill code; a code begins with %s, and every letter counts", text, codePrefix)
	}
	if b[0] < 1 || b[0] > drill.Levels {
		return 0, 0, usage("the code is for a level %d drill, which this program does not know", b[0])
	}
	return int(b[0]), binary.BigEndian.Uint64(b[1:9]), nil
}

// resultLine returns how a drill of a class went.
func resultLine(code string, solved bool, looks, wrong, points int) string {
	body := fmt.Sprintf("%s %t %d %d %d", code, solved, looks, wrong, points)
	return fmt.Sprintf("OBDR1 %s %08x", body, crc32.ChecksumIEEE([]byte(body)))
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
	used := map[string]bool{}
	files := map[string][]byte{}
	for n := 1; n <= o.class; n++ {
		d, code, err := freshDrill(s, o.level, used)
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
	return nil
}

// triesForNew is how often another drill is drawn so that no two of a class are the same.
const triesForNew = 300

// freshDrill draws a drill that is not among those used, as long as there is one.
func freshDrill(s *diagnose.Study, level int, used map[string]bool) (*drill.Drill, string, error) {
	for try := 1; ; try++ {
		var b [8]byte
		if _, err := rand.Read(b[:]); err != nil {
			return nil, "", fmt.Errorf("no seed can be generated: %w", err)
		}
		seed := binary.BigEndian.Uint64(b[:])
		d, err := drill.New(s, level, seed, nil)
		if err != nil {
			return nil, "", err
		}
		name := ""
		for _, m := range d.Mistakes {
			name += m.ID() + " "
		}
		if !used[name] || try >= triesForNew {
			used[name] = true
			return d, drillCode(level, seed), nil
		}
	}
}
