package qr

import (
	"bytes"
	"image"
	"math"
	"slices"
	"strings"

	"rsc.io/qr/coding"
)

// screen is what codes are looked for on: points that are dark or light.
type screen struct {
	width, height int
	dark          []bool
}

func (s *screen) at(x, y int) bool {
	return x >= 0 && y >= 0 && x < s.width && y < s.height && s.dark[y*s.width+x]
}

// Read returns what the codes on a text screen say, whose modules are half blocks, and blocks and
// blanks: either may be the light.
func Read(rows []string) []string {
	s := &screen{height: 2 * len(rows)}
	for _, r := range rows {
		s.width = max(s.width, len([]rune(r)))
	}
	s.dark = make([]bool, s.width*s.height)
	for y, r := range rows {
		x := 0
		for _, c := range r {
			s.dark[2*y*s.width+x] = c == '█' || c == '▀'
			s.dark[(2*y+1)*s.width+x] = c == '█' || c == '▄'
			x++
		}
	}
	return s.read()
}

// MostPoints bounds a picture that is looked at: about what the largest screens show.
const MostPoints = 1 << 25

// ReadPicture returns what the codes in a picture of a screen say. They stand upright, at any size.
func ReadPicture(p image.Image) []string {
	b := p.Bounds()
	if b.Dx() <= 0 || b.Dy() <= 0 || b.Dx() > MostPoints/b.Dy() {
		return nil
	}
	s := &screen{width: b.Dx(), height: b.Dy(), dark: make([]bool, b.Dx()*b.Dy())}
	gray := make([]uint32, len(s.dark))
	least, most := uint32(math.MaxUint32), uint32(0)
	for y := range s.height {
		for x := range s.width {
			r, g, bl, _ := p.At(b.Min.X+x, b.Min.Y+y).RGBA()
			v := (299*r + 587*g + 114*bl) / 1000
			gray[y*s.width+x] = v
			least, most = min(least, v), max(most, v)
		}
	}
	for i, v := range gray {
		s.dark[i] = v < least/2+most/2
	}
	return s.read()
}

// read looks for dark codes, then for light ones.
func (s *screen) read() (out []string) {
	for range 2 {
		for _, text := range s.upright() {
			if !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
		for i := range s.dark {
			s.dark[i] = !s.dark[i]
		}
	}
	return out
}

// corner is the middle of one of the three squares by which a code is found, and how large a
// module is there, across and down.
type corner struct{ x, y, across, down float64 }

// What is taken for corners, and how many three of them are looked at: text has few shapes like
// them.
const (
	mostCorners = 256
	mostCodes   = 1024
)

// corners finds squares: across and down, dark, light, dark, light and dark are as 1 to 1 to 3 to 1
// to 1.
func (s *screen) corners() (out []corner) {
	for y := range s.height {
		line := func(i int) bool { return s.at(i, y) }
		squares(s.width, line, func(x, across float64) {
			column := func(i int) bool { return s.at(int(x), i) }
			squares(s.height, column, func(middle, down float64) {
				if middle < float64(y) || middle >= float64(y)+1 || len(out) == mostCorners {
					return
				}
				out = append(out, corner{x, middle, across, down})
			})
		})
	}
	return out
}

// squares finds in a line what a cut through the middle of a corner looks like: its middle, and how
// large a module is.
func squares(length int, dark func(i int) bool, found func(middle, module float64)) {
	var runs [5]int // the last ones; a run of light before the first dark one is none
	begin, is := 0, dark(0)
	for i := 1; i <= length; i++ {
		if i < length && dark(i) == is {
			continue
		}
		copy(runs[:], runs[1:])
		runs[4] = i - begin
		if is {
			total := 0
			for _, n := range runs {
				total += n
			}
			module := float64(total) / 7
			fits := runs[0] > 0
			for n, want := range [5]float64{1, 1, 3, 1, 1} {
				fits = fits && math.Abs(float64(runs[n])-want*module) <= module/2
			}
			if fits {
				found(float64(i)-float64(total)/2, module)
			}
		}
		begin = i
		if i < length {
			is = dark(i)
		}
	}
}

// upright reads the dark codes that stand upright.
func (s *screen) upright() (out []string) {
	list := s.corners()
	looked := 0
	for _, left := range list {
		for _, right := range list {
			if right.x-left.x < 10*left.across || math.Abs(right.y-left.y) > left.down {
				continue
			}
			for _, below := range list {
				if below.y-left.y < 10*left.down || math.Abs(below.x-left.x) > left.across {
					continue
				}
				if looked++; looked > mostCodes {
					return out
				}
				if text, ok := s.between(left, right, below); ok && !slices.Contains(out, text) {
					out = append(out, text)
				}
			}
		}
	}
	return out
}

// between reads the code of three corners.
func (s *screen) between(left, right, below corner) (string, bool) {
	width, height := right.x-left.x, below.y-left.y
	version := math.Round((width/left.across + 7 - 17) / 4)
	if version < coding.MinVersion || version > coding.MaxVersion {
		return "", false
	}
	size := 17 + 4*int(version)
	across, down := width/float64(size-7), height/float64(size-7)
	if math.Abs(down-left.down) > left.down/2 {
		return "", false
	}
	black := func(x, y int) bool {
		return s.at(int(math.Floor(left.x+(float64(x)-3)*across)), int(math.Floor(left.y+(float64(y)-3)*down)))
	}
	for i := 8; i < size-8; i++ { // the strips between the corners
		if black(i, 6) != (i%2 == 0) || black(6, i) != (i%2 == 0) {
			return "", false
		}
	}
	for level := coding.L; level <= coding.H; level++ {
		for mask := range coding.Mask(8) {
			p, err := coding.NewPlan(coding.Version(version), level, mask)
			if err == nil && planned(p, black) {
				return decode(p, black)
			}
		}
	}
	return "", false
}

// planned reports whether it is a plan whose constant modules are there.
func planned(p *coding.Plan, black func(x, y int) bool) bool {
	for y, row := range p.Pixel {
		for x, pixel := range row {
			switch pixel.Role() {
			case coding.Data, coding.Check, coding.Extra:
			default:
				if black(x, y) != (pixel&coding.Black != 0) {
					return false
				}
			}
		}
	}
	return true
}

// decode reads what the modules say. Nothing is mended: where the check bytes do not fit, nothing is
// read.
func decode(p *coding.Plan, black func(x, y int) bool) (string, bool) {
	data := make([]byte, p.DataBytes+p.CheckBytes)
	for y, row := range p.Pixel {
		for x, pixel := range row {
			if role := pixel.Role(); role != coding.Data && role != coding.Check {
				continue
			}
			if o := pixel.Offset(); black(x, y) != (pixel&coding.Black != 0) {
				data[o/8] |= 1 << (7 - o%8)
			}
		}
	}
	var again coding.Bits
	again.Append(data[:p.DataBytes])
	again.AddCheckBytes(p.Version, p.Level)
	if !bytes.Equal(again.Bytes(), data) {
		return "", false
	}
	return words(data[:p.DataBytes], p.Version)
}

// bits are read from the first on; beyond the last they are 0.
type bits struct {
	data []byte
	next int
}

func (b *bits) take(n int) (v int) {
	for range n {
		v <<= 1
		if b.next < 8*len(b.data) {
			v |= int(b.data[b.next/8]>>(7-b.next%8)) & 1
		}
		b.next++
	}
	return v
}

// What a segment holds (ISO/IEC 18004, table 2), and the characters of one of letters.
const (
	end     = 0
	digits  = 1
	letters = 2
	octets  = 4

	alphabet = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ $%*+-./:"
)

// words reads the segments of a code.
func words(data []byte, version coding.Version) (string, bool) {
	class := 0
	if version > 9 {
		class++
	}
	if version > 26 {
		class++
	}
	b := &bits{data: data}
	var out strings.Builder
	for b.next+4 <= 8*len(data) {
		switch b.take(4) {
		case end:
			return out.String(), out.Len() > 0
		case digits:
			n := b.take([3]int{10, 12, 14}[class])
			for ; n > 0 && b.next < 8*len(data); n -= 3 {
				size := min(n, 3)
				number(&out, b.take([4]int{0, 4, 7, 10}[size]), size, "0123456789")
			}
		case letters:
			n := b.take([3]int{9, 11, 13}[class])
			for ; n > 0 && b.next < 8*len(data); n -= 2 {
				size := min(n, 2)
				number(&out, b.take([3]int{0, 6, 11}[size]), size, alphabet)
			}
		case octets:
			n := b.take([3]int{8, 16, 16}[class])
			for ; n > 0 && b.next < 8*len(data); n-- {
				out.WriteByte(byte(b.take(8)))
			}
		default:
			return "", false // what it would be is not written here
		}
	}
	return out.String(), out.Len() > 0
}

// number writes a number in so many signs of an alphabet.
func number(out *strings.Builder, v, size int, signs string) {
	text := make([]byte, size)
	for i := range text {
		text[size-1-i] = signs[v%len(signs)]
		v /= len(signs)
	}
	out.Write(text)
}
