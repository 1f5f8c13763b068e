package qr

import (
	"image"
	"image/color"
	"image/draw"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	xdraw "golang.org/x/image/draw"
	"pgregory.net/rapid"
	"rsc.io/qr"
)

// drawn returns a code as rows of a screen, with text around it.
func drawn(t require.TestingT, text string) []string {
	picture, err := Draw(text)
	require.NoError(t, err)
	rows := []string{"heron login: root", "# bastion probe --square"}
	rows = append(rows, strings.Split(strings.TrimRight(picture, "\n"), "\n")...)
	return append(rows, text, "#")
}

// What is drawn is read, among other text, at any place, with either colour for the light; and one
// module that is wrong is enough for nothing to be read.
func TestDrawAndRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.OneOf(rapid.StringMatching(`OB2\.[A-Z2-7]{20,300}`), rapid.StringMatching(`[0-9]{1,400}`),
			rapid.StringMatching(`[ -~]{1,200}`)).Draw(t, "text")
		rows := drawn(t, text)
		indent := strings.Repeat(" ", rapid.IntRange(0, 30).Draw(t, "indent"))
		light := rapid.Bool().Draw(t, "light")
		for i := range rows {
			rows[i] = indent + rows[i]
			if light {
				rows[i] = strings.NewReplacer("█", " ", " ", "█", "▀", "▄", "▄", "▀").Replace(rows[i])
			}
		}
		require.Equal(t, []string{text}, Read(rows))
		y := rapid.IntRange(6, len(rows)-6).Draw(t, "row")
		line := []rune(rows[y])
		x := rapid.IntRange(len(indent)+4, len(line)-5).Draw(t, "column")
		other := []rune("█▀▄ ")
		if was := line[x]; strings.ContainsRune("█▀▄ ", was) {
			for line[x] == was {
				line[x] = other[rapid.IntRange(0, 3).Draw(t, "module")]
			}
			rows[y] = string(line)
			for _, got := range Read(rows) {
				require.Equal(t, text, got, "it stood where nothing is said")
			}
		}
	})
	assert.Empty(t, Read(nil))
	assert.Empty(t, Read([]string{"", "no code", strings.Repeat("█ ", 40)}))
}

// pictured returns a code as points, each module so large.
func pictured(t testing.TB, text string, across, down int) *image.Gray {
	code, err := qr.Encode(text, qr.M)
	require.NoError(t, err)
	p := image.NewGray(image.Rect(0, 0, 90+(code.Size+8)*across, 70+(code.Size+8)*down))
	draw.Draw(p, p.Bounds(), image.NewUniform(color.Gray{40}), image.Point{}, draw.Src)
	draw.Draw(
		p,
		image.Rect(60, 40, 60+(code.Size+8)*across, 40+(code.Size+8)*down),
		image.NewUniform(color.Gray{230}),
		image.Point{},
		draw.Src,
	)
	for y := range code.Size {
		for x := range code.Size {
			if code.Black(x, y) {
				at := image.Rect(0, 0, across, down).Add(image.Pt(60+(x+4)*across, 40+(y+4)*down))
				draw.Draw(p, at, image.NewUniform(color.Gray{10}), image.Point{}, draw.Src)
			}
		}
	}
	return p
}

// A picture of a screen is read at its size and at others, also where a module is not as wide as
// it is high, and with a little noise.
func TestReadPicture(t *testing.T) {
	text := "OB2." + strings.Repeat("MZXW6YTBOI", 12)
	for _, size := range [][2]int{{3, 3}, {8, 8}, {9, 8}, {8, 9}, {5, 5}} {
		p := pictured(t, text, size[0], size[1])
		assert.Equal(t, []string{text}, ReadPicture(p), "%v", size)
		for _, scale := range []float64{0.75, 1.3, 2} {
			if float64(size[0])*scale < 3 {
				continue
			}
			scaled := image.NewGray(image.Rect(0, 0, int(float64(p.Rect.Dx())*scale), int(float64(p.Rect.Dy())*scale)))
			xdraw.ApproxBiLinear.Scale(scaled, scaled.Bounds(), p, p.Bounds(), draw.Src, nil)
			random := rand.New(rand.NewPCG(1, 2))
			for i := range scaled.Pix {
				scaled.Pix[i] = uint8(min(max(int(scaled.Pix[i])+random.IntN(21)-10, 0), 255))
			}
			assert.Equal(t, []string{text}, ReadPicture(scaled), "%v scaled by %g", size, scale)
		}
	}
	assert.Empty(t, ReadPicture(image.NewGray(image.Rect(0, 0, 640, 400))))
	assert.Empty(t, ReadPicture(image.NewGray(image.Rectangle{})))
	many := image.NewGray(image.Rect(0, 0, 1200, 1200)) // many corners, and no code
	for i := range many.Pix {
		x, y := i%1200%20, i/1200%20
		ring := min(x, 13-x, y, 13-y) / 2 // of modules of two points: dark, light, dark
		many.Pix[i] = 255
		if ring == 0 && x < 14 && y < 14 || ring >= 2 {
			many.Pix[i] = 0
		}
	}
	assert.Empty(t, ReadPicture(many))
	s := &screen{1200, 1200, make([]bool, len(many.Pix))}
	for i, v := range many.Pix {
		s.dark[i] = v == 0
	}
	assert.Len(t, s.corners(), mostCorners)
}

// Whatever a screen shows, reading it ends, and gives codes only that say what is drawn.
func FuzzRead(f *testing.F) {
	f.Add(strings.Join(drawn(f, "OB2.MZXW6"), "\n"))
	f.Fuzz(func(t *testing.T, text string) {
		for _, got := range Read(strings.Split(text, "\n")) {
			require.NotEmpty(t, got)
		}
	})
}

func BenchmarkReadPicture(b *testing.B) {
	p := pictured(b, "OB2."+strings.Repeat("MZXW6YTBOI", 12), 8, 8)
	for b.Loop() {
		ReadPicture(p)
	}
}
