package witness

import "encoding/binary"

// MostAttempts bounds the forged packets of a run that a witness tells apart.
const MostAttempts = 4096

// What a witness keeps of forged packets at most: beyond, it no longer says that it listens, as
// its silence proves nothing then.
const (
	mostRuns  = 1 << 14
	mostMarks = 1 << 22 // of all runs
)

// heard is what was heard of runs.
type heard struct {
	runs  map[uint32]*run
	marks int
	full  bool
}

type run struct {
	attempts []uint16
	known    [MostAttempts / 64]uint64 // a bit for each attempt
}

// Hear notes a forged packet of a run that came to the witness's machine, and tells whether it
// is the first of its attempt. Anybody can send one: what it can do is to make somebody look
// leaky who is not.
func (s *Server) Hear(number uint32, attempt int) bool {
	if number == 0 || attempt < 0 || attempt >= MostAttempts {
		return false
	}
	h := &s.heard
	r := h.runs[number]
	if h.full = h.full || r == nil && len(h.runs) == mostRuns || h.marks == mostMarks; h.full {
		return false
	}
	if r == nil {
		r = &run{}
		if h.runs == nil {
			h.runs = map[uint32]*run{}
		}
		h.runs[number] = r
	}
	word, bit := &r.known[attempt/64], uint64(1)<<(attempt%64)
	if *word&bit != 0 {
		return false
	}
	*word |= bit
	r.attempts = append(r.attempts, uint16(attempt))
	h.marks++
	return true
}

// of returns what was heard of a run, from one place on.
func (h *heard) of(number uint32, first int, listening bool) Heard {
	out := Heard{Run: number, Listening: listening && !h.full && number != 0, First: first}
	if r := h.runs[number]; r != nil {
		out.Count = len(r.attempts)
		out.Attempts = r.attempts[min(first, out.Count):min(first+most, out.Count)]
	}
	return out
}

// append writes what was heard of a run; the flags beside it also say whether all ports are open.
func (h Heard) append(b []byte, open bool) []byte {
	b = binary.BigEndian.AppendUint32(b, h.Run)
	flags := byte(0)
	if h.Listening {
		flags |= listens
	}
	if open {
		flags |= opens
	}
	b = append(b, flags)
	b = binary.BigEndian.AppendUint16(b, uint16(h.Count))
	b = binary.BigEndian.AppendUint16(b, uint16(h.First))
	for _, a := range h.Attempts {
		b = binary.BigEndian.AppendUint16(b, a)
	}
	return b
}

// readHeard reads what append wrote, out of a report.
func readHeard(data []byte) (h Heard, open bool) {
	h = Heard{Run: binary.BigEndian.Uint32(data[heardAt:]), Listening: data[flagsAt]&listens != 0,
		Count: int(binary.BigEndian.Uint16(data[flagsAt+1:])), First: int(binary.BigEndian.Uint16(data[flagsAt+3:]))}
	for i := range min(most, max(0, h.Count-h.First)) {
		h.Attempts = append(h.Attempts, binary.BigEndian.Uint16(data[marksAt+2*i:]))
	}
	return h, data[flagsAt]&opens != 0
}
