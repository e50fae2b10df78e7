package pictures

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"io"
	"regexp"

	"github.com/fyne-io/oksvg"
	"github.com/srwiley/rasterx"
)

// drawingSide is how long the longer side of a drawing is drawn, in pixels: more than any portal wants.
const drawingSide = 2400

// mostDrawing is the largest drawing that is read, in bytes.
const mostDrawing = 8 << 20

// isDrawing reports whether a file that begins so is an SVG.
func isDrawing(start []byte) bool {
	start = bytes.TrimPrefix(start[:min(len(start), 4096)], []byte("\xef\xbb\xbf"))
	return bytes.Contains(start, []byte("<svg")) && bytes.HasPrefix(bytes.TrimLeft(start, " \r\n\t"), []byte("<"))
}

// undrawn are elements that would be missing from a drawing.
var undrawn = regexp.MustCompile(`<(text|image|foreignObject|filter|mask|pattern|symbol|marker)[\s>/]`)

// drawing reads an SVG. What it holds and can't be drawn makes it a bad master: a picture that lacks something is worse than none.
func drawing(name string, r io.Reader) (icon *oksvg.SvgIcon, err error) {
	data, err := io.ReadAll(io.LimitReader(r, mostDrawing+1))
	if err != nil {
		return nil, err
	}
	if len(data) > mostDrawing {
		return nil, &BadMaster{name, fmt.Sprintf("it has more than %d MB", mostDrawing>>20), "save it as PNG"}
	}
	if m := undrawn.FindSubmatch(data); m != nil {
		why := fmt.Sprintf("it has a <%s>, which havvel doesn't draw", m[1])
		return nil, &BadMaster{name, why, "turn texts and effects into paths, or save it as PNG"}
	}
	defer func() {
		if p := recover(); p != nil { // a reader of strange bytes
			icon, err = nil, &BadMaster{name, "it can't be read", "save it as PNG"}
		}
	}()
	icon, err = oksvg.ReadIconStream(bytes.NewReader(data), oksvg.IgnoreErrorMode)
	if err != nil || icon.ViewBox.W <= 0 || icon.ViewBox.H <= 0 {
		return nil, &BadMaster{name, "it is no SVG with a size or a viewBox", "export it again"}
	}
	return icon, nil
}

// sized is how large a drawing is drawn.
func sized(icon *oksvg.SvgIcon) (width, height int) {
	scale := drawingSide / max(icon.ViewBox.W, icon.ViewBox.H)
	return max(1, int(icon.ViewBox.W*scale+.5)), max(1, int(icon.ViewBox.H*scale+.5))
}

var errUndrawn = errors.New("it can't be drawn")

func rendered(icon *oksvg.SvgIcon) (m *image.RGBA, err error) {
	defer func() {
		if recover() != nil {
			m, err = nil, errUndrawn
		}
	}()
	w, h := sized(icon)
	icon.SetTarget(0, 0, float64(w), float64(h))
	m = image.NewRGBA(image.Rect(0, 0, w, h))
	icon.Draw(rasterx.NewDasher(w, h, rasterx.NewScannerGV(w, h, m, m.Bounds())), 1)
	return m, nil
}
