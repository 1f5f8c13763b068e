package supervisor

import (
	"bytes"
	"strings"
	"sync"
)

// Tail keeps the end of what is written to it. Make one with [NewTail].
type Tail struct {
	most int

	mu   sync.Mutex
	kept []byte
}

// NewTail makes a tail that keeps so many bytes at most.
func NewTail(most int) *Tail { return &Tail{most: most} }

// Write takes what is written; it never fails.
func (t *Tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.kept = append(t.kept, b...)
	if over := len(t.kept) - t.most; over > 0 {
		t.kept = bytes.Clone(t.kept[over:])
	}
	return len(b), nil
}

// Bytes returns what is kept.
func (t *Tail) Bytes() []byte {
	t.mu.Lock()
	defer t.mu.Unlock()
	return bytes.Clone(t.kept)
}

// Last returns the last lines, so many at most, as one.
func (t *Tail) Last(lines int) string {
	list := strings.Split(strings.TrimSpace(string(t.Bytes())), "\n")
	return strings.Join(list[max(len(list)-lines, 0):], "; ")
}
