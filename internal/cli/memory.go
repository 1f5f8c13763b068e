package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"openbastion/internal/api"
	"openbastion/internal/atomicfile"
	"openbastion/internal/model/plan"
	"openbastion/internal/verify/claims"
)

// remembered returns where a rehearsal of this very lab is remembered: in the
// user's cache, under the plan's fingerprint and the program's version, so that nothing
// of the lab itself is kept there. Empty when the user has no cache.
func remembered(p *plan.Plan) string {
	cache, err := os.UserCacheDir()
	if err != nil {
		return ""
	}
	return filepath.Join(cache, "openbastion", "rehearsed", p.Fingerprint()+"-"+Version+".json")
}

// memorable is how long a rehearsal is remembered.
const memorable = 90 * 24 * time.Hour

// remember keeps the verdict of a rehearsal for check. Where it cannot be kept
// the rehearsal is none the worse.
func remember(p *plan.Plan, v claims.Verdict) {
	data, _ := json.Marshal(
		api.Rehearsed{Verdict: v, At: time.Now().UTC().Truncate(time.Second)},
	) // a plain struct: it cannot fail
	keepInCache(remembered(p), data)
}

// keepInCache writes a file into a folder of the user's cache, and takes out of it what is
// too old. An empty path keeps nothing.
func keepInCache(path string, data []byte) {
	if path == "" || os.MkdirAll(filepath.Dir(path), 0o700) != nil ||
		atomicfile.Write(path, data, atomicfile.Options{Replace: true}) != nil {
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

// recall returns the last rehearsal of this very lab, or nil.
func recall(p *plan.Plan) *api.Rehearsed {
	path := remembered(p)
	if path == "" {
		return nil
	}
	data, err := os.ReadFile(path)
	r := &api.Rehearsed{}
	if err != nil || json.Unmarshal(data, r) != nil {
		return nil
	}
	if !oneOf(string(r.Verdict), string(claims.Holds), string(claims.Broken), string(claims.Unknown)) {
		return nil
	}
	return r
}

// sayRehearsed tells whether this very file has been rehearsed, and how it went.
func sayRehearsed(s *screen, r *api.Rehearsed, file string) {
	if r == nil {
		how := "bastion rehearse " + file
		if file == "-" {
			how = "bastion rehearse"
		}
		s.para(2, 2, faint, "Not rehearsed since the last change: "+how)
		return
	}
	how := map[claims.Verdict]string{claims.Holds: "all checks passed", claims.Broken: "checks failed",
		claims.Unknown: "some checks could not be decided"}[r.Verdict]
	s.para(2, 2, faint, "Rehearsed "+r.At.Local().Format("2006-01-02 15:04")+": "+how+".")
}
