package cli

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"openbastion/internal/atomicfile"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// rehearsed is what is remembered of a rehearsal.
type rehearsed struct {
	Verdict claims.Verdict `json:"verdict"`
	At      time.Time      `json:"at"`
}

// remembered gives where a rehearsal of this very lab is remembered: in the
// user's cache, under a digest of the program's version, the lab file's text and
// the profiles it names, so that nothing of the lab itself is kept there. Empty
// when the user has no cache.
func (a *app) remembered(p *plan.Plan, file string) string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	sum := a.labDigest(p, file)
	if sum == "" {
		return ""
	}
	return filepath.Join(cache, "openbastion", "rehearsed", sum+".json")
}

// labDigest tells one state of a lab file and its profiles, as this version reads them,
// from every other. The file has been read before.
func (a *app) labDigest(p *plan.Plan, file string) string {
	profiles, err := json.Marshal(p.Lab.Profiles)
	if err != nil {
		return ""
	}
	sum := sha256.New()
	for _, part := range [][]byte{[]byte(Version), a.texts[file], profiles} {
		length := sha256.Sum256(part) // of a fixed length: parts cannot run into each other
		sum.Write(length[:])
	}
	return hex.EncodeToString(sum.Sum(nil)[:16])
}

// memorable is how long a rehearsal is remembered.
const memorable = 90 * 24 * time.Hour

// remember keeps the verdict of a rehearsal for check. Where it cannot be kept
// the rehearsal is none the worse.
func (a *app) remember(p *plan.Plan, file string, v claims.Verdict) {
	data, _ := json.Marshal(rehearsed{v, time.Now().UTC().Truncate(time.Second)}) // a plain struct: it cannot fail
	keepInCache(a.remembered(p, file), data)
}

// keepInCache writes a file into a folder of the user's cache, and takes out of it what is
// too old. An empty path keeps nothing.
func keepInCache(path string, data []byte) {
	if path == "" || os.MkdirAll(filepath.Dir(path), 0o700) != nil || atomicfile.Write(path, data, atomicfile.Options{Replace: true}) != nil {
		return
	}
	now := time.Now()
	old, _ := os.ReadDir(filepath.Dir(path))
	for _, e := range old {
		if info, err := e.Info(); err == nil && now.Sub(info.ModTime()) > memorable {
			_ = os.Remove(filepath.Join(filepath.Dir(path), e.Name()))
		}
	}
}

// recall gives the last rehearsal of this very lab, or nil.
func (a *app) recall(p *plan.Plan, file string) *rehearsed {
	path := a.remembered(p, file)
	if path == "" {
		return nil
	}
	data, err := os.ReadFile(path)
	r := &rehearsed{}
	if err != nil || json.Unmarshal(data, r) != nil {
		return nil
	}
	if !oneOf(string(r.Verdict), string(claims.Holds), string(claims.Broken), string(claims.Unknown)) {
		return nil
	}
	return r
}

// sayRehearsed tells whether this very file has been rehearsed, and how it went.
func sayRehearsed(s *screen, r *rehearsed, file string) {
	if r == nil {
		how := "bastion rehearse " + file
		if file == "-" {
			how = "bastion rehearse"
		}
		s.para(2, 2, faint, "This very file has not been rehearsed: "+how)
		return
	}
	how := map[claims.Verdict]string{claims.Holds: "every claim held", claims.Broken: "claims were broken",
		claims.Unknown: "claims stayed unknown"}[r.Verdict]
	s.para(2, 2, faint, "This very file was rehearsed on "+r.At.Local().Format("2006-01-02 15:04")+": "+how+".")
}
