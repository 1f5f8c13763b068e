package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
)

// Fingerprint returns what identifies the plan: the lab file as it was read, and the profiles that
// it names. It does not depend on the program's version, so that a lab that has not changed is
// known again by another one. The text is 32 hexadecimal digits.
func (p *Plan) Fingerprint() string {
	profiles, _ := json.Marshal(p.Lab.Profiles) // plain structs: it cannot fail
	of := sha256.Sum256(profiles)
	sum := sha256.Sum256(append(p.Lab.Sum[:], of[:]...)) // each of a fixed length: parts cannot run into each other
	return hex.EncodeToString(sum[:16])
}
