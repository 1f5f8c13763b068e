package image

import (
	"errors"
	"io"
)

// headSize is how much of a stream's beginning stays readable in any order.
const headSize = 1 << 20

// errBehind says that a stream was read past a place already.
var errBehind = errors.New("it is before what was read last, in a stream that is read forward only")

// errBudget says that looking further would read too much.
var errBudget = errors.New("it is nested deeper than is searched without --whole")

// window gives a stream's bytes by offset: its head in any order, what follows
// only forward, and no more than the budget allows.
type window struct {
	r      io.Reader
	head   []byte
	at     int64 // read so far
	budget int64
	err    error // the stream's end or fault
}

func newWindow(r io.Reader, budget int64) *window { return &window{r: r, budget: budget} }

// fill reads the head up to n bytes.
func (w *window) fill(n int) {
	if n = min(n, headSize); n <= len(w.head) || w.err != nil || w.at > headSize {
		return
	}
	from := len(w.head)
	w.head = append(w.head, make([]byte, n-from)...)
	got := w.full(w.head[from:])
	w.head = w.head[:from+got]
}

// full reads until b is full or the stream ends; unlike io.ReadFull it tells
// the stream's own complaint of an unexpected end from a plain end.
func (w *window) full(b []byte) int {
	n := 0
	for n < len(b) && w.err == nil {
		var m int
		m, w.err = w.r.Read(b[n:])
		n += m
	}
	w.at += int64(n)
	return n
}

// ReadAt reads what stands at an offset.
func (w *window) ReadAt(b []byte, at int64) (int, error) {
	if at < headSize {
		w.fill(int(min(at+int64(len(b)), headSize)))
		n := 0
		if at < int64(len(w.head)) {
			n = copy(b, w.head[at:])
		}
		if n == len(b) {
			return n, nil
		}
		if len(w.head) < headSize {
			return n, w.err
		}
		m, err := w.forward(b[n:], at+int64(n))
		return n + m, err
	}
	w.fill(headSize)
	return w.forward(b, at)
}

func (w *window) forward(b []byte, at int64) (int, error) {
	switch {
	case w.err != nil:
		return 0, w.err
	case at < w.at:
		return 0, errBehind
	case at+int64(len(b)) > w.budget:
		return 0, errBudget
	}
	n, err := io.CopyN(io.Discard, w.r, at-w.at)
	w.at += n
	if err != nil {
		w.err = err
		return 0, err
	}
	if n := w.full(b); n < len(b) {
		return n, w.err
	}
	return len(b), nil
}

// drain reads to the end and gives the whole length. limit bounds it.
func (w *window) drain(limit int64) (int64, error) {
	if w.err == nil {
		n, err := io.CopyN(io.Discard, w.r, limit-w.at+1)
		w.at += n
		if err == nil {
			return w.at, errors.New("it is larger than any image: do not trust it")
		}
		w.err = err
	}
	if w.err == io.EOF {
		return w.at, nil
	}
	return w.at, w.err
}
