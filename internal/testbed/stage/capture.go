package stage

import (
	"bufio"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"openbastion/internal/format/pcapng"
	"openbastion/internal/model/plan"
	"openbastion/internal/simulator"
)

// Captures writes what each segment carries to a file of its own, up to a size.
type Captures struct {
	limit  int64
	folder string

	mu    sync.Mutex
	files []*capture // by segment
	past  []*capture // of segments that are no more
	full  []string   // of the segments whose file is full
	timer *time.Timer
}

type capture struct {
	name   string
	file   *os.File
	buffer *bufio.Writer
	writer *pcapng.Writer
	size   int64
	full   bool
}

// frameOverhead is what the format adds to a frame, at most (a block's head, length and
// padding).
const frameOverhead = 36

// flushed is how often what was seen is written down.
const flushed = 200 * time.Millisecond

// NewCaptures opens a file for each segment in a folder. One that is there is an error.
func NewCaptures(folder string, limit int64, segments []string, p *plan.Plan) (*Captures, error) {
	c := &Captures{limit: limit, folder: folder}
	for _, name := range segments {
		one, err := c.open(name, p)
		if err != nil {
			c.Close()
			return nil, err
		}
		c.files = append(c.files, one)
	}
	c.timer = time.AfterFunc(flushed, c.flush)
	return c, nil
}

// open begins the file of a segment.
func (c *Captures) open(name string, p *plan.Plan) (*capture, error) {
	f, err := os.OpenFile(filepath.Join(c.folder, name+".pcapng"), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	one := &capture{name: name, file: f, buffer: bufio.NewWriterSize(f, 1<<16)}
	one.writer = pcapng.NewWriter(one.buffer, "bastion", "lab "+p.Name)
	about := "beyond upstream"
	if s := p.Segment(name); s != nil {
		about = fmt.Sprintf("segment %s, %s", s.Name, s.Subnet)
	}
	one.writer.AddInterface(name, about)
	return one, nil
}

// Renumber goes on with other segments: those of the same name keep their file. On an error nothing
// has changed.
func (c *Captures) Renumber(segments []string, p *plan.Plan) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	was := map[string]*capture{}
	for _, f := range slices.Concat(c.files, c.past) {
		was[f.name] = f
	}
	var files []*capture
	var made []*capture
	for _, name := range segments {
		one := was[name]
		if delete(was, name); one == nil {
			var err error
			if one, err = c.open(name, p); err != nil {
				for _, f := range made {
					_ = f.file.Close()
					_ = os.Remove(f.file.Name())
				}
				return err
			}
			made = append(made, one)
		}
		files = append(files, one)
	}
	c.files, c.past = files, slices.Collect(maps.Values(was))
	return nil
}

// Record writes a frame.
func (c *Captures) Record(segment int, _ time.Time, frame []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	one := c.files[segment]
	if one.full {
		return
	}
	if one.size += int64(len(frame)) + frameOverhead; one.size > c.limit {
		one.full = true
		c.full = append(c.full, one.name)
		return
	}
	one.writer.Record(0, time.Now(), frame)
}

// Notes returns what is not captured any more.
func (c *Captures) Notes() (out []string) {
	if c == nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, name := range c.full {
		out = append(
			out,
			fmt.Sprintf("the capture of %s is full at %d MiB: what came later is not in it", name, c.limit>>20),
		)
	}
	for _, f := range slices.Concat(c.files, c.past) {
		if err := f.writer.Err(); err != nil {
			out = append(out, fmt.Sprintf("the capture of %s could not be written: %v", f.name, err))
		}
	}
	return out
}

func (c *Captures) flush() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, f := range slices.Concat(c.files, c.past) {
		_ = f.buffer.Flush() // an error shows in the writer, which notes tells
	}
	c.timer.Reset(flushed)
}

// Close ends them; what was written stands.
func (c *Captures) Close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.timer != nil {
		c.timer.Stop()
	}
	var all []error
	for _, f := range slices.Concat(c.files, c.past) {
		all = append(all, f.buffer.Flush(), f.file.Close())
	}
	_ = errors.Join(all...) // the lab is over; what was written before stands
	c.files, c.past = nil, nil
}

// Watched has every frame of a lab seen: by a watch, by who else is named, and by captures
// in a folder, up to a size each; without a folder there are none.
func Watched(
	v *simulator.Live,
	p *plan.Plan,
	folder string,
	size int64,
	also ...simulator.Recorder,
) (w *Watch, c *Captures, err error) {
	world := v.World()
	w = NewWatch(p, world.Segments)
	recorders := append(simulator.Recorders{w}, also...)
	if folder != "" {
		if c, err = NewCaptures(folder, size, world.Segments, p); err != nil {
			return nil, nil, err
		}
		recorders = append(recorders, c)
	}
	world.Recorder = recorders
	return w, c, nil
}
