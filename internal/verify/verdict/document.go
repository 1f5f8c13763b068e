package verdict

import (
	"encoding/json"
	"errors"
	"fmt"
	"openbastion/internal/verify/claims"
)

// ReadDocument reads a verdict as it was written: JSON with Schema.
func ReadDocument(data []byte) (Document, error) {
	var d Document
	if err := json.Unmarshal(data, &d); err != nil {
		var at *json.SyntaxError
		if errors.As(err, &at) {
			err = fmt.Errorf("it is not JSON: %w, after %d bytes", err, at.Offset)
		}
		return Document{}, err
	}
	if d.Schema != Schema {
		return Document{}, fmt.Errorf("its schema is %q, and a verdict's is %q", d.Schema, Schema)
	}
	seen := map[string]bool{}
	for _, r := range d.Claims {
		if r.ID == "" || seen[r.ID] {
			return Document{}, fmt.Errorf("its claim %q has no identifier of its own", r.ID)
		}
		seen[r.ID] = true
		if r.Verdict != claims.Holds && r.Verdict != claims.Broken && r.Verdict != claims.Unknown {
			return Document{}, fmt.Errorf(
				"its claim %s has the verdict %q; valid: holds, broken, unknown",
				r.ID,
				r.Verdict,
			)
		}
	}
	return d, nil
}
