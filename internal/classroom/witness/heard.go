package witness

import (
	"encoding/binary"
	"slices"
)

// MostAttempts bounds the forged packets of a run that a witness tells apart.
const MostAttempts = 4096

// What a witness keeps of forged packets at most. Runs of which a bench with a token has asked are kept,
// so many of each bench; of the others, which anybody can make up, the oldest are let go.
const (
	mostRuns    = 1 << 14
	mostOfBench = 64
	mostMarks   = 1 << 22 // of all runs
)

// heard is what was heard of runs.
type heard struct {
	runs   map[uint32]*run
	asked  map[string][]uint32 // by bench, the oldest first
	others []uint32            // that nobody has asked of yet, the oldest first
	marks  int
	lost   bool // some of the others were let go
}

type run struct {
	attempts []uint16
	known    [MostAttempts / 64]uint64 // a bit for each attempt
	asked    bool
	late     bool // it was first asked of when others had been let go already: it may have been among them
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
	if r == nil {
		r = &run{}
		h.put(number, r)
		h.others = append(h.others, number)
	}
	word, bit := &r.known[attempt/64], uint64(1)<<(attempt%64)
	if *word&bit != 0 {
		return false
	}
	*word |= bit
	r.attempts = append(r.attempts, uint16(attempt))
	h.marks++
	for (len(h.others) > mostRuns || h.marks > mostMarks) && len(h.others) > 0 {
		h.drop(h.others[0])
		h.others, h.lost = h.others[1:], true
	}
	return true
}

func (h *heard) put(number uint32, r *run) {
	if h.runs == nil {
		h.runs, h.asked = map[uint32]*run{}, map[string][]uint32{}
	}
	h.runs[number] = r
}

func (h *heard) drop(number uint32) {
	if r := h.runs[number]; r != nil {
		h.marks -= len(r.attempts)
		delete(h.runs, number)
	}
}

// of returns what was heard of a run, from one place on, for a bench that has a token. From then on the
// run is the bench's, and stays.
func (h *heard) of(bench string, number uint32, first int, listening bool) Heard {
	out := Heard{Run: number, First: first}
	if number == 0 {
		return out
	}
	r := h.runs[number]
	if r == nil {
		r = &run{late: h.lost}
		h.put(number, r)
	}
	if !r.asked {
		r.asked = true
		h.others = slices.DeleteFunc(h.others, func(n uint32) bool { return n == number })
		if h.asked[bench] = append(h.asked[bench], number); len(h.asked[bench]) > mostOfBench {
			h.drop(h.asked[bench][0])
			h.asked[bench] = h.asked[bench][1:]
		}
	}
	out.Listening = listening && !r.late
	out.Count = len(r.attempts)
	out.Attempts = r.attempts[min(first, out.Count):min(first+most, out.Count)]
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
