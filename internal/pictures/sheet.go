package pictures

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"os"
	"slices"
	"unicode/utf8"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vp8"

	"havvel/internal/atomicfile"
	"havvel/internal/settings"
	"havvel/internal/webm"
)

// Sizes on the contact sheet, in pixels.
const (
	sheetWide = 1280
	sheetEdge = 28
	cellHigh  = 150
	cellWide  = 270
	cellGap   = 20
)

var (
	paper = color.NRGBA{0x17, 0x1a, 0x21, 255}
	pale  = color.NRGBA{0xe8, 0xe6, 0xdf, 255}
	grey  = color.NRGBA{0x8d, 0x93, 0xa0, 255}
	lines = color.NRGBA{0x3a, 0x40, 0x4d, 255}
	alarm = color.NRGBA{0xe0, 0x8a, 0x5a, 255}
)

// A sheet is a contact sheet that is being drawn.
type sheet struct {
	m                  *image.NRGBA
	plain, strong, big font.Face
	y                  int
}

// WriteSheet draws all cuts of orders on one picture (PNG), and the covers small among plain neighbours, where players decide. A sheet that
// shows the same already stays as it is.
func WriteSheet(path, title string, orders []*Order) error {
	key, err := sheetKey(title, orders)
	if err != nil {
		return err
	}
	if f, err := os.Open(path); err == nil {
		defer f.Close()
		start := make([]byte, 512)
		n, _ := io.ReadFull(f, start)
		if bytes.Contains(start[:n], []byte(key)) {
			return nil
		}
	}
	data, err := drawSheet(title, orders)
	if err != nil {
		return err
	}
	return atomicfile.Bytes(path, noted(data, key))
}

// sheetKey stands for all that a sheet shows.
func sheetKey(title string, orders []*Order) (string, error) {
	shown := []any{making, title}
	for _, o := range orders {
		shown = append(shown, o.Destination.Rules.Name, o.Cuts, o.Problems)
		for _, c := range o.Cuts {
			shown = append(shown, c.unseen())
		}
	}
	words, err := json.Marshal(shown)
	sum := sha256.Sum256(words)
	return hex.EncodeToString(sum[:]), err
}

// noted is a PNG with a text in it behind its header (Portable Network Graphics, 11.3.3.2).
func noted(data []byte, text string) []byte {
	const header = 8 + 25 // signature and IHDR
	body := []byte("tEXthavvel\x00" + text)
	chunk := binary.BigEndian.AppendUint32(nil, uint32(len(body)-4))
	chunk = binary.BigEndian.AppendUint32(append(chunk, body...), crc32.ChecksumIEEE(body))
	return slices.Concat(data[:header], chunk, data[header:])
}

func drawSheet(title string, orders []*Order) ([]byte, error) {
	s := &sheet{m: image.NewNRGBA(image.Rect(0, 0, sheetWide, 0))}
	var err error
	if s.plain, err = face(goregular.TTF, 13); err != nil {
		return nil, err
	}
	if s.strong, err = face(gobold.TTF, 15); err != nil {
		return nil, err
	}
	if s.big, err = face(gobold.TTF, 22); err != nil {
		return nil, err
	}
	s.y = 24
	s.grow()
	s.words(s.big, pale, sheetEdge, s.y+20, title)
	s.y += 52
	for _, o := range orders {
		if err := s.order(o); err != nil {
			return nil, err
		}
	}
	return asPNG(s.m.SubImage(image.Rect(0, 0, sheetWide, min(s.y+8, s.m.Bounds().Dy()))), png.DefaultCompression)
}

// grow makes the sheet high enough for another row.
func (s *sheet) grow() {
	const row = 600
	if s.y+row <= s.m.Rect.Dy() {
		return
	}
	higher := image.NewNRGBA(image.Rect(0, 0, sheetWide, s.y+4*row))
	draw.Draw(higher, higher.Bounds(), image.NewUniform(paper), image.Point{}, draw.Src)
	copy(higher.Pix, s.m.Pix)
	s.m = higher
}

func face(ttf []byte, size float64) (font.Face, error) {
	f, err := opentype.Parse(ttf)
	if err != nil {
		return nil, err
	}
	return opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
}

func (s *sheet) words(f font.Face, c color.Color, x, y int, words string) int {
	d := font.Drawer{Dst: s.m, Src: image.NewUniform(c), Face: f, Dot: fixed.P(x, y)}
	d.DrawString(words)
	return d.Dot.X.Ceil()
}

// fit shortens words to a width.
func fit(f font.Face, words string, wide int) string {
	for short := words; ; {
		if font.MeasureString(f, short).Ceil() <= wide || len(words) < 4 {
			return short
		}
		_, n := utf8.DecodeLastRuneInString(words)
		words = words[:len(words)-n]
		short = words + "…"
	}
}

// order draws the pictures of one destination.
func (s *sheet) order(o *Order) error {
	s.grow()
	end := s.words(s.strong, pale, sheetEdge, s.y+14, o.Destination.Rules.Name)
	state := fmt.Sprintf("%d pictures", len(o.Cuts))
	s.words(s.plain, grey, end+12, s.y+14, state)
	s.y += 26
	x := sheetEdge
	place := func(wide int) {
		if x+wide > sheetWide-sheetEdge {
			x, s.y = sheetEdge, s.y+cellHigh+64
			s.grow()
		}
	}
	var covers []*Cut
	for _, c := range o.Cuts {
		if c.Role == "cover" && !c.film() {
			covers = append(covers, c)
		}
		wide, draw, err := s.cell(c)
		if err != nil {
			return err
		}
		place(wide)
		draw(x)
		s.label(x, wide, c)
		x += wide + cellGap
	}
	for _, p := range o.Problems {
		if p.Kind != Missing {
			continue
		}
		place(cellWide)
		s.frame(image.Rect(x, s.y, x+cellWide, s.y+cellHigh), alarm)
		s.words(s.plain, alarm, x+12, s.y+cellHigh/2, fit(s.plain, p.Message, cellWide-24))
		x += cellWide + cellGap
	}
	s.y += cellHigh + 64
	for _, c := range covers {
		if err := s.among(c); err != nil {
			return err
		}
	}
	return nil
}

// cell is how wide a picture is on the sheet, and what draws it from an edge on.
func (s *sheet) cell(c *Cut) (wide int, draw func(x int), err error) {
	if c.film() {
		return cellWide, func(x int) {
			if m := firstOf(c); m != nil {
				s.picture(m, image.Rect(x, s.y, x+cellWide, s.y+min(cellHigh, cellWide*c.Height/max(1, c.Width))))
				return
			}
			s.frame(image.Rect(x, s.y, x+cellWide, s.y+cellHigh), lines)
			s.words(s.plain, grey, x+12, s.y+cellHigh/2, "a film, "+settings.Size(c.Bytes).String()+", not drawn here")
		}, nil
	}
	m, err := readCut(c)
	if err != nil {
		return 0, nil, err
	}
	w, h := cellWide, max(1, cellWide*c.Height/max(1, c.Width))
	if h > cellHigh {
		w, h = max(1, cellHigh*c.Width/max(1, c.Height)), cellHigh
	}
	return max(w, 120), func(x int) {
		s.chequer(image.Rect(x, s.y, x+w, s.y+h))
		s.picture(m, image.Rect(x, s.y, x+w, s.y+h))
	}, nil
}

func readCut(c *Cut) (image.Image, error) {
	f, err := os.Open(c.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return decode(f)
}

func (s *sheet) picture(m image.Image, at image.Rectangle) {
	b := m.Bounds()
	small := scaled(m, region{0, 0, float64(b.Dx()), float64(b.Dy())}, at.Dx(), at.Dy()).image()
	draw.Draw(s.m, at, small, image.Point{}, draw.Over)
}

func (s *sheet) frame(r image.Rectangle, c color.Color) {
	for _, side := range []image.Rectangle{
		{r.Min, image.Pt(r.Max.X, r.Min.Y+1)}, {image.Pt(r.Min.X, r.Max.Y-1), r.Max},
		{r.Min, image.Pt(r.Min.X+1, r.Max.Y)}, {image.Pt(r.Max.X-1, r.Min.Y), r.Max},
	} {
		draw.Draw(s.m, side, image.NewUniform(c), image.Point{}, draw.Src)
	}
}

// chequer is the ground on which transparency is seen.
func (s *sheet) chequer(r image.Rectangle) {
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			c := lines
			if (x/8+y/8)%2 == 0 {
				c = paper
			}
			s.m.SetNRGBA(x, y, c)
		}
	}
}

func (s *sheet) label(x, wide int, c *Cut) {
	name := c.Name
	if c.Number > 1 {
		name = fmt.Sprintf("%s %d", name, c.Number)
	}
	s.words(s.plain, pale, x, s.y+cellHigh+18, fit(s.plain, name, wide))
	tone := grey
	if len(c.Problems) > 0 {
		tone = alarm
	}
	facts := settings.Size(c.Bytes).String()
	if c.Width > 0 {
		facts = fmt.Sprintf("%dx%d, %s", c.Width, c.Height, facts)
	}
	s.words(s.plain, tone, x, s.y+cellHigh+35, fit(s.plain, facts, wide+cellGap-4))
}

// firstOf is the first picture of a film; nil where it can't be read.
func firstOf(c *Cut) image.Image {
	if f, err := os.Open(c.still()); err == nil {
		defer f.Close()
		if m, err := decode(f); err == nil {
			return m
		}
	}
	data, err := os.ReadFile(c.Path)
	if err != nil {
		return nil
	}
	picture, codec := webm.Key(data)
	if codec != "V_VP8" || len(picture) == 0 {
		return nil
	}
	d := vp8.NewDecoder()
	d.Init(bytes.NewReader(picture), len(picture))
	if _, err := d.DecodeFrameHeader(); err != nil {
		return nil
	}
	m, err := d.DecodeFrame()
	if err != nil {
		return nil
	}
	return &master{Image: m, studio: true}
}

// among shows a cover at the size at which players see it, between scenes of other games, on a dark page and on a light one.
func (s *sheet) among(c *Cut) error {
	m, err := readCut(c)
	if err != nil {
		return err
	}
	w := thumbnail
	h := min(220, max(1, w*c.Height/c.Width))
	s.grow()
	s.words(s.plain, grey, sheetEdge, s.y+10, fmt.Sprintf("%s, %d pixels wide among others:", c.Name, w))
	s.y += 22
	const own = 2 // its place in the row
	for page, ground := range []color.NRGBA{paper, {242, 241, 238, 255}} {
		s.grow()
		draw.Draw(s.m, image.Rect(0, s.y-8, sheetWide, s.y+h+8), image.NewUniform(ground), image.Point{}, draw.Src)
		for i := range 6 {
			x := sheetEdge + i*(w+24)
			r := image.Rect(x, s.y, x+w, s.y+h)
			if i == own {
				s.picture(m, r)
				continue
			}
			draw.Draw(s.m, r, scene(w, h, (i+3*page)%len(scenes)), image.Point{}, draw.Src)
		}
		s.y += h + 20
	}
	s.y += 12
	return nil
}
