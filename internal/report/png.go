package report

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"strings"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"varnet/core/policy"
)

// The picture of the flow for letters, in pixels: twice as fine as it is shown.
const (
	pictureWidth = 1120
	pictureUnit  = pictureWidth / FlowWidth
	pictureSize  = 20 // of the letters
	pictureLine  = 27
	pictureGap   = 16 // between two columns of text
	pictureEnd   = 190
	pictureTop   = 187 // where the bands end
	pictureMark  = 15
)

// PNG draws the flow with its labels, for letters.
func (f Flow) PNG() ([]byte, error) {
	p := newPicture()
	texts := p.layOut(f)
	below := 0
	for _, t := range texts {
		below = max(below, t.at.Y)
	}
	p.Image = image.NewRGBA(image.Rect(0, 0, pictureWidth, below+pictureLine/2))
	p.fill(p.Bounds(), color.RGBA{250, 247, 241, 255})
	for _, s := range f.Shapes {
		p.shape(s)
	}
	for _, t := range texts {
		p.write(t)
	}
	var out bytes.Buffer
	err := png.Encode(&out, p.Image)
	return out.Bytes(), err
}

// picture is what is drawn on; its letters are made for it alone, since they are not to be
// used by several at once.
type picture struct {
	draw.Image
	regular, bold font.Face
}

var fonts = sync.OnceValue(func() (out [2]*opentype.Font) {
	for i, text := range [][]byte{goregular.TTF, gobold.TTF} {
		parsed, err := opentype.Parse(text)
		if err != nil {
			panic(err) // they ship with us
		}
		out[i] = parsed
	}
	return out
})

func newPicture() *picture {
	face := func(f *opentype.Font) font.Face {
		made, err := opentype.NewFace(f, &opentype.FaceOptions{Size: pictureSize, DPI: 72})
		if err != nil {
			panic(err) // options of our own
		}
		return made
	}
	return &picture{regular: face(fonts()[0]), bold: face(fonts()[1])}
}

// text is a line of text, with the mark of a decision before it or none.
type text struct {
	at   image.Point // where its base line begins
	face font.Face
	tone rgb
	text string
	mark policy.Decision
}

// layOut places the labels of a flow below it.
func (p *picture) layOut(f Flow) (out []text) {
	for i, c := range f.Columns {
		x, end := int(c.X*pictureUnit), pictureWidth
		if i == len(f.Columns)-1 {
			x = min(x, pictureWidth-pictureEnd)
		} else {
			end = min(int(f.Columns[i+1].X*pictureUnit), pictureWidth-pictureEnd) - pictureGap
		}
		y := pictureTop + pictureLine
		out = append(out, text{image.Pt(x, y), p.bold, ink, c.Name, ""})
		for _, l := range c.Lines {
			t := text{image.Pt(x, 0), p.regular, quiet, "", ""}
			if l.Main {
				t = text{image.Pt(x+pictureMark+6, 0), p.bold, ink, "", l.Tone}
			}
			for _, line := range wrap(t.face, l.Text, end-t.at.X) {
				y += pictureLine
				t.at.Y, t.text = y, line
				out = append(out, t)
				t.mark = ""
			}
		}
	}
	return out
}

// wrap breaks a text between words into lines of at most so many pixels.
func wrap(face font.Face, text string, width int) (lines []string) {
	for _, word := range strings.Fields(text) {
		last := len(lines) - 1
		if last >= 0 && font.MeasureString(face, lines[last]+" "+word).Ceil() <= width {
			lines[last] += " " + word
		} else {
			lines = append(lines, word)
		}
	}
	return lines
}

func (c rgb) opaque() color.RGBA { return color.RGBA{uint8(c.r), uint8(c.g), uint8(c.b), 255} }

func (p *picture) fill(r image.Rectangle, c color.RGBA) {
	draw.Draw(p, r, image.NewUniform(c), image.Point{}, draw.Src)
}

func (p *picture) write(t text) {
	d := font.Drawer{Dst: p, Src: image.NewUniform(t.tone.opaque()), Face: t.face, Dot: fixed.P(t.at.X, t.at.Y)}
	d.DrawString(t.text)
	if t.mark != "" {
		p.mark(float32(t.at.X-pictureMark/2-6), float32(t.at.Y-pictureMark/2), t.mark)
	}
}

// shape fills a band; a line along it would be lost at this size.
func (p *picture) shape(s Shape) {
	r := vector.NewRasterizer(pictureWidth, p.Bounds().Dy())
	at := func(q Point) (x, y float32) { return float32(q.X * pictureUnit), float32(q.Y * pictureUnit) }
	r.MoveTo(at(s.Start))
	for _, q := range s.Path {
		x, y := at(q.End)
		if len(q.Guides) == 2 {
			ax, ay := at(q.Guides[0])
			bx, by := at(q.Guides[1])
			r.CubeTo(ax, ay, bx, by, x, y)
		} else {
			r.LineTo(x, y)
		}
	}
	r.ClosePath()
	r.Draw(p, p.Bounds(), image.NewUniform(fills[s.Tone].opaque()), image.Point{})
}

// mark draws the mark of a decision: full, half, or hollow.
func (p *picture) mark(x, y float32, d policy.Decision) {
	const radius, edge = pictureMark / 2.0, 2
	r := vector.NewRasterizer(pictureWidth, p.Bounds().Dy())
	circle(r, x, y, radius, false)
	if d != policy.Keep {
		circle(r, x, y, radius-edge, true)
	}
	if d == policy.Hold {
		half(r, x, y, radius-edge/2)
	}
	r.Draw(p, p.Bounds(), image.NewUniform(strong[d].opaque()), image.Point{})
}

// kappa is how far the guides of a quarter of a circle reach, in radii.
const kappa = 0.5523

// circle adds a circle, the other way round for a hole.
func circle(r *vector.Rasterizer, x, y, radius float32, hole bool) {
	k, h := radius*kappa, radius
	if hole {
		h, k = -h, -k
	}
	r.MoveTo(x-radius, y)
	r.CubeTo(x-radius, y-k, x-radius*kappa, y-h, x, y-h)
	r.CubeTo(x+radius*kappa, y-h, x+radius, y-k, x+radius, y)
	r.CubeTo(x+radius, y+k, x+radius*kappa, y+h, x, y+h)
	r.CubeTo(x-radius*kappa, y+h, x-radius, y+k, x-radius, y)
	r.ClosePath()
}

// half adds the left half of a disc.
func half(r *vector.Rasterizer, x, y, radius float32) {
	k := radius * kappa
	r.MoveTo(x, y+radius)
	r.CubeTo(x-k, y+radius, x-radius, y+k, x-radius, y)
	r.CubeTo(x-radius, y-k, x-k, y-radius, x, y-radius)
	r.ClosePath()
}
