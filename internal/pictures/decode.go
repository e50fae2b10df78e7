package pictures

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif" // formats of masters
	_ "image/jpeg"
	_ "image/png"
	"io"
	"os"
	"strings"
	"time"

	"github.com/kovidgoyal/imaging/prism/meta"
	"github.com/kovidgoyal/imaging/prism/meta/autometa"
	"github.com/rwcarlsen/goexif/exif"
	_ "golang.org/x/image/webp" // another

	"havvel/internal/mp4"
	"havvel/internal/webm"
)

// budget is the most memory that a decoded master may take, in bytes.
const budget = 128 << 20

// A BadMaster says why a master can't be used.
type BadMaster struct {
	File, Reason, Fix string
}

func (e *BadMaster) Error() string { return e.File + ": " + e.Reason }

// header is what a picture's first bytes say.
type header struct {
	format        string
	width, height int // as it is shown: turned, where its EXIF data says so
	turn          int // EXIF orientation, 1 to 8
	cost          int64
	animated      bool
	length        time.Duration // of a film in MP4
	strange       string        // what is wrong with its colours; "" for nothing
	md            *meta.Data
	start         []byte
	inks          bool
}

// readHeader reads what is known without decoding.
func readHeader(name string, f io.ReadSeeker) (*header, error) {
	start := make([]byte, 64<<10)
	n, err := io.ReadFull(f, start)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return nil, err
	}
	start = start[:n]
	switch {
	case n == 0:
		return nil, &BadMaster{name, "it is empty", "export it again"}
	case bytes.HasPrefix(start, []byte("\x1a\x45\xdf\xa3")):
		if data, err := io.ReadAll(f); err != nil {
			return nil, err
		} else if !webm.Whole(append(start, data...)) {
			return nil, &BadMaster{name, "it is broken: a part of it is missing", "export it again"}
		}
		w, h := webm.Size(start)
		return &header{format: "webm", width: w, height: h}, nil
	case mp4.Is(start):
		film, err := mp4.Read(f)
		if errors.Is(err, mp4.ErrNoFilm) {
			return nil, &BadMaster{name, "it is broken: " + err.Error(), "export it again"}
		}
		return &header{format: "mp4", width: film.Width, height: film.Height, length: film.Length}, err
	case animatedWebP(start):
		w, h := canvasOf(start)
		return turned(&header{format: "webp", width: w, height: h, cost: 8 * int64(w) * int64(h), animated: true, start: start}, metadata(f)), nil
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	if isDrawing(start) {
		icon, err := drawing(name, f)
		if err != nil {
			return nil, err
		}
		w, h := sized(icon)
		return &header{format: "svg", width: w, height: h, turn: 1, cost: 4 * int64(w) * int64(h)}, nil
	}
	return pixelHeader(name, f, start)
}

// pixelHeader reads the header of a picture that is made of pixels.
func pixelHeader(name string, f io.ReadSeeker, start []byte) (*header, error) {
	config, format, err := image.DecodeConfig(bufio.NewReader(f))
	if errors.Is(err, image.ErrFormat) {
		return nil, &BadMaster{name, "it is no PNG, JPEG, WebP, GIF, SVG, WebM or MP4", "save it as PNG"}
	}
	if err != nil {
		return nil, &BadMaster{name, "it is broken: " + plainly(err), "export it again"}
	}
	if config.Width <= 0 || config.Height <= 0 {
		return nil, &BadMaster{name, "it has no pixels", "export it again"}
	}
	md := metadata(f)
	h := &header{format: format, width: config.Width, height: config.Height, start: start, inks: config.ColorModel == color.CMYKModel}
	h.cost = int64(config.Width) * int64(config.Height) * bytesPerPixel(config.ColorModel, format, start)
	if format == "gif" {
		h.animated = moves(f)
	} else {
		h.animated = md != nil && (md.NumFrames > 1 || md.HasFrames)
	}
	return turned(h, md), nil
}

// turned adds what a picture says of itself.
func turned(h *header, md *meta.Data) *header {
	h.md, h.turn = md, orientation(md)
	if h.turn >= 5 {
		h.width, h.height = h.height, h.width
	}
	return h
}

// bytesPerPixel is what decoding takes.
func bytesPerPixel(m color.Model, format string, start []byte) int64 {
	switch {
	case format == "jpeg" && bytes.Contains(start, []byte("\xff\xc2\x00")): // progressive: all coefficients are kept
		return 16
	case format == "jpeg" && m == color.CMYKModel:
		return 8
	case format == "jpeg":
		return 3
	case m == color.GrayModel:
		return 1
	case m == color.RGBA64Model, m == color.NRGBA64Model:
		return 8
	case m == color.Gray16Model:
		return 2
	}
	if _, palette := m.(color.Palette); palette {
		return 1
	}
	if format == "webp" {
		return 8
	}
	return 4
}

// plainly says what a library says of a broken picture, without the name of its package.
func plainly(err error) string {
	words, unread := err.Error(), strings.Contains(err.Error(), "unsupported")
	for _, p := range []string{"png: ", "jpeg: ", "gif: ", "webp: ", "riff: ", "vp8: ", "vp8l: ", "invalid format: ",
		"unsupported feature: "} {
		words = strings.TrimPrefix(words, p)
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return "it ends too early"
	}
	if unread {
		return "it is of a kind that can't be read (" + words + ")"
	}
	return "a part of it is damaged (" + words + ")"
}

// open reads a master whole. Of an animated one the first picture is taken.
func open(path, name string) (image.Image, *header, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	h, err := readHeader(name, f)
	if err != nil {
		return nil, nil, err
	}
	if h.cost > budget {
		return nil, nil, &BadMaster{
			name,
			fmt.Sprintf("%dx%d pixels take %d MB to open, and havvel takes %d MB at most", h.width, h.height, h.cost>>20, budget>>20),
			"save it smaller; no portal shows more than 4000 pixels",
		}
	}
	if h.film() {
		return nil, h, nil
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, nil, err
	}
	if h.format == "svg" {
		icon, err := drawing(name, f)
		if err != nil {
			return nil, nil, err
		}
		m, err := rendered(icon)
		if err != nil {
			return nil, nil, &BadMaster{name, err.Error(), "save it as PNG"}
		}
		return &master{Image: m}, h, nil
	}
	m, err := decode(bufio.NewReaderSize(f, 1<<20))
	if err != nil {
		return nil, nil, &BadMaster{name, "it is broken: " + plainly(err), "export it again"}
	}
	colours, err := profileOf(h.md, h.start, h.inks)
	switch {
	case err != nil:
		h.strange = err.Error()
	case h.inks && colours == nil:
		h.strange = "it is for printing and says nothing of its inks, so its colours are a guess"
	}
	return &master{m, h.turn, h.format == "webp", colours}, h, nil
}

// decode guards against readers that panic on broken pictures.
func decode(r io.Reader) (m image.Image, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("it can't be read (%v)", p)
		}
	}()
	b := bufio.NewReader(r)
	if start, _ := b.Peek(30); animatedWebP(start) {
		return firstWebP(b)
	}
	m, _, err = image.Decode(b)
	return m, err
}

// orientation is how a picture is to be turned, by its EXIF data (tag 0x0112), 1 when it says nothing.
func orientation(md *meta.Data) int {
	if md == nil {
		return 1
	}
	e, err := md.Exif()
	if err != nil || e == nil {
		return 1
	}
	tag, err := e.Get(exif.Orientation)
	if err != nil {
		return 1
	}
	if v, err := tag.Int(0); err == nil && v >= 1 && v <= 8 {
		return v
	}
	return 1
}

// metadata is what a picture says of itself beside its pixels; nil where it can't be read.
func metadata(f io.ReadSeeker) (md *meta.Data) {
	defer func() {
		if recover() != nil { // a reader of strange bytes
			md = nil
		}
	}()
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil
	}
	md, _, err := autometa.Load(bufio.NewReaderSize(f, 1<<20))
	if err != nil {
		return nil
	}
	return md
}
