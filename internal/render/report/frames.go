package report

import "time"

// maxLog bounds the bytes of frames that a Log keeps.
const maxLog = 64 << 20

// Log keeps the frames of a run, so that a page can show those that a verdict
// names. Frames beyond 64 MiB are counted and not kept. The zero Log is empty.
type Log struct {
	Segments []string  // names, by the index that Record is given
	Start    time.Time // of the run

	entries []entry
	bytes   []byte
}

type entry struct {
	segment int
	at      time.Duration
	from    int // in bytes; the end is where the next begins
}

// Record takes the next frame.
func (l *Log) Record(segment int, at time.Time, frame []byte) {
	if len(l.bytes)+len(frame) > maxLog {
		return
	}
	l.entries = append(l.entries, entry{segment, at.Sub(l.Start), len(l.bytes)})
	l.bytes = append(l.bytes, frame...)
}

// Frames returns the wanted frames, by number from 1, in order.
func (l *Log) Frames(wanted map[int]bool) []Frame {
	var out []Frame
	for i, e := range l.entries {
		if !wanted[i+1] {
			continue
		}
		end := len(l.bytes)
		if i+1 < len(l.entries) {
			end = l.entries[i+1].from
		}
		out = append(out, Frame{Number: i + 1, At: e.at, Segment: l.Segments[e.segment], Bytes: l.bytes[e.from:end]})
	}
	return out
}
