package diagnose

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"io"
	"slices"
)

// identity returns what a study is of: which looks and which mistakes, in their order, and
// what the lab shows as it is planned.
func (s *Study) identity() []byte {
	sum := sha256.New()
	for _, l := range s.Looks {
		sum.Write([]byte(l.ID + "\n"))
	}
	for _, m := range s.Mistakes {
		sum.Write([]byte(m.ID() + "\n"))
	}
	sum.Write(bytesOf(s.Base))
	return sum.Sum(nil)
}

// Saved returns what the jobs found, to be kept and read by [Study.Restore].
func (s *Study) Saved() []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, _ = z.Write(s.identity()) // a buffer takes all
	for _, v := range s.Vectors {
		if v == nil {
			v = make(Vector, len(s.Looks))
		}
		_, _ = z.Write(bytesOf(v))
	}
	_ = z.Close()
	return out.Bytes()
}

// Restore takes what Saved gave instead of doing the jobs; false when it is of another
// study, or damaged. Nothing is changed then.
func (s *Study) Restore(data []byte) bool {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return false
	}
	id := s.identity()
	want := len(id) + len(s.Mistakes)*len(s.Looks)
	body, err := io.ReadAll(io.LimitReader(z, int64(want)+1))
	if err != nil || len(body) != want || !bytes.Equal(body[:len(id)], id) {
		return false
	}
	list := make([]Vector, len(s.Mistakes))
	for i := range list {
		part := body[len(id)+i*len(s.Looks):][:len(s.Looks)]
		v := make(Vector, len(part))
		for k, b := range part {
			v[k] = Value(b)
		}
		if slices.ContainsFunc(v, func(x Value) bool { return x != Unseen }) {
			list[i] = v
		}
	}
	s.Vectors = list
	return true
}
