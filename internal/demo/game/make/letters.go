package main

import (
	"image"
	"image/color"
	"math"
	"strconv"
	"strings"
)

// Letters are strokes on a grid: 0 is the line they stand on, 7 the height of a capital. M moves, L draws
// a line, Q a curve about a point. The first number is the width.
var strokes = map[rune]string{
	'A': "4.4 M0 0 L2.2 7 L4.4 0 M0.7 2.2 L3.7 2.2",
	'B': "4 M0 0 L0 7 L1.8 7 Q3.6 7 3.6 5.5 Q3.6 4 1.8 4 L0 4 M1.8 4 Q4 4 4 2 Q4 0 1.8 0 L0 0",
	'C': "5.4 M5.4 5.8 Q4.6 7 3.2 7 Q0 7 0 3.5 Q0 0 3.2 0 Q4.6 0 5.4 1.2",
	'D': "4.8 M0 0 L0 7 L1.4 7 Q4.8 7 4.8 3.5 Q4.8 0 1.4 0 L0 0",
	'E': "3.4 M3.4 7 L0 7 L0 0 L3.4 0 M0 4.4 L2.7 4.4",
	'F': "3.2 M3.2 7 L0 7 L0 0 M0 4.4 L2.6 4.4",
	'G': "5.6 M5.4 5.8 Q4.6 7 3.2 7 Q0 7 0 3.5 Q0 0 3.2 0 Q5.6 0 5.6 2.6 L3.6 2.6",
	'H': "4.2 M0 0 L0 7 M4.2 0 L4.2 7 M0 4.4 L4.2 4.4",
	'I': "0.2 M0.1 0 L0.1 7",
	'J': "2.4 M2.4 7 L2.4 1.9 Q2.4 0 1 0 Q0.4 0 0 0.4",
	'K': "4 M0 0 L0 7 M3.8 7 L0 3.2 M1.3 4.4 L4 0",
	'L': "3.1 M0 7 L0 0 L3.1 0",
	'M': "5.6 M0 0 L0.4 7 L2.8 1.8 L5.2 7 L5.6 0",
	'N': "4.4 M0 0 L0 7 L4.4 0 L4.4 7",
	'O': "6.4 M3.2 7 Q0 7 0 3.5 Q0 0 3.2 0 Q6.4 0 6.4 3.5 Q6.4 7 3.2 7",
	'P': "3.9 M0 0 L0 7 L1.8 7 Q3.9 7 3.9 5.2 Q3.9 3.4 1.8 3.4 L0 3.4",
	'Q': "6.4 M3.2 7 Q0 7 0 3.5 Q0 0 3.2 0 Q6.4 0 6.4 3.5 Q6.4 7 3.2 7 M4.2 1.6 L6.3 -0.5",
	'R': "4 M0 0 L0 7 L1.8 7 Q3.9 7 3.9 5.2 Q3.9 3.4 1.8 3.4 L0 3.4 M1.8 3.4 L4 0",
	'S': "3.9 M3.7 5.9 Q3.2 7 2 7 Q0.3 7 0.3 5.4 Q0.3 4.2 2 3.7 Q3.9 3.1 3.9 1.7 Q3.9 0 2 0 Q0.5 0 0 1.2",
	'T': "4.4 M0 7 L4.4 7 M2.2 7 L2.2 0",
	'U': "4.2 M0 7 L0 2.2 Q0 0 2.1 0 Q4.2 0 4.2 2.2 L4.2 7",
	'V': "4.2 M0 7 L2.1 0 L4.2 7",
	'W': "6.6 M0 7 L1.6 0 L3.3 6 L5 0 L6.6 7",
	'X': "4 M0 0 L4 7 M0 7 L4 0",
	'Y': "4.2 M0 7 L2.1 3.4 L4.2 7 M2.1 3.4 L2.1 0",
	'Z': "4 M0.2 7 L4 7 L0 0 L4 0",
	'0': "4.4 M2.2 7 Q0 7 0 3.5 Q0 0 2.2 0 Q4.4 0 4.4 3.5 Q4.4 7 2.2 7",
	'1': "1.4 M0 5.6 L1.4 7 L1.4 0",
	'2': "3.8 M0.1 5.4 Q0.4 7 1.9 7 Q3.7 7 3.7 5.2 Q3.7 3.8 0 0 L3.8 0",
	'3': "3.8 M0.2 6 Q0.8 7 1.9 7 Q3.6 7 3.6 5.4 Q3.6 3.9 1.5 3.9 Q3.8 3.9 3.8 2 Q3.8 0 1.8 0 Q0.5 0 0 1.2",
	'4': "4.2 M3.2 0 L3.2 7 L0 2 L4.2 2",
	'5': "3.8 M3.4 7 L0.6 7 L0.3 4 Q1 4.5 1.9 4.5 Q3.8 4.5 3.8 2.3 Q3.8 0 1.8 0 Q0.5 0 0 1",
	'6': "4 M3.2 7 Q0 5 0 2.2 Q0 0 2 0 Q4 0 4 2.2 Q4 4.3 2 4.3 Q0.4 4.3 0.1 2.8",
	'7': "3.8 M0 7 L3.8 7 L1.4 0",
	'8': "4 M2 7 Q0.3 7 0.3 5.4 Q0.3 3.9 2 3.9 Q3.7 3.9 3.7 5.4 Q3.7 7 2 7 M2 3.9 Q0 3.9 0 1.9 Q0 0 2 0 Q4 0 4 1.9 Q4 3.9 2 3.9",
	'9': "4 M0.8 0 Q4 2 4 4.8 Q4 7 2 7 Q0 7 0 4.8 Q0 2.7 2 2.7 Q3.6 2.7 3.9 4.2",
	'.': "0.2 M0.1 0 L0.1 0.1", ',': "0.4 M0.4 0.2 L0 -1", '\'': "0.2 M0.1 7 L0.1 5.6", '-': "2 M0 3.2 L2 3.2",
	':': "0.2 M0.1 0.6 L0.1 0.7 M0.1 4 L0.1 4.1", '!': "0.2 M0.1 7 L0.1 2 M0.1 0 L0.1 0.1",
	'/': "2.6 M0 -0.6 L2.6 7.4", '?': "3.4 M0 5.6 Q0.4 7 1.7 7 Q3.4 7 3.4 5.3 Q3.4 3.9 1.7 3.3 L1.7 2 M1.7 0 L1.7 0.1",
	'&': "5 M4.8 0 L1.1 5.1 Q0.4 7 2 7 Q3.5 7 3.2 5.4 Q2.9 4.4 1.3 3.6 Q0 2.9 0 1.7 Q0 0 1.9 0 Q4 0 4.8 3",
	'%': "4.6 M0.9 6.8 L1 6.9 M3.7 0.2 L3.8 0.3 M0 0 L4.6 7",
	// Pictures for buttons.
	'<': "4 M4 3.5 L0 3.5 M2 6 L0 3.5 L2 1", '>': "4 M0 3.5 L4 3.5 M2 6 L4 3.5 L2 1",
	'@': "6 M5.4 5.2 Q4.4 6.6 3 6.6 Q0 6.6 0 3.5 Q0 0.4 3 0.4 Q5.6 0.4 6 3 M5.6 7 L5.5 5 L3.5 5.1",
	'_': "5.4 M2 6.4 L0 4.6 L2 2.8 M0 4.6 L3.4 4.6 Q5.4 4.6 5.4 2.6 Q5.4 0.6 3.4 0.6 L1.4 0.6",
	'*': "6 M0 2.4 L0 4.6 L1.4 4.6 L3.2 6.2 L3.2 0.8 L1.4 2.4 L0 2.4 M4.3 4.8 Q5 3.5 4.3 2.2 M5.3 5.8 Q6.7 3.5 5.3 1.2",
	'~': "6 M0 2.4 L0 4.6 L1.4 4.6 L3.2 6.2 L3.2 0.8 L1.4 2.4 L0 2.4 M4.4 4.7 L6.4 2.3 M6.4 4.7 L4.4 2.3",
	'^': "4.4 M2.2 7 Q0.2 7 0.2 4.9 Q0.2 3.6 1.2 2.9 L1.2 1.8 L3.2 1.8 L3.2 2.9 Q4.2 3.6 4.2 4.9 Q4.2 7 2.2 7 M1.4 0.6 L3 0.6",
	'#': "5.4 M0 0.5 L0 2.3 L1.8 2.3 L1.8 0.5 L0 0.5 M3.6 0.5 L3.6 2.3 L5.4 2.3 L5.4 0.5 L3.6 0.5 M0 4.5 L0 6.3 L1.8 6.3 L1.8 4.5 L0 4.5 " +
		"M3.6 4.5 L3.6 6.3 L5.4 6.3 L5.4 4.5 L3.6 4.5",
}

// Measures of the sheet, in pixels.
const (
	perUnit  = 5.5 // of the grid
	around   = 9   // left about each letter for its glow
	sheet    = 512
	lineHigh = 66
)

// A glyph is where a letter is on the sheet, and how wide it is on the grid.
type glyph struct {
	X int     `json:"x"`
	Y int     `json:"y"`
	W int     `json:"w"`
	H int     `json:"h"`
	A float64 `json:"a"`
}

type letterTable struct {
	Unit   float64          `json:"unit"`
	Around int              `json:"around"`
	Base   int              `json:"base"` // from a cell's top to the line the letters stand on
	Glyphs map[string]glyph `json:"glyphs"`
}

// drawLetters draws the sheet: in each pixel the distance to the nearest stroke, 255 on it and 0 away.
func drawLetters() (*image.Gray, letterTable) {
	m := image.NewGray(image.Rect(0, 0, sheet, sheet))
	base := around + 42 // seven and a half units
	table := letterTable{perUnit, around, base, map[string]glyph{}}
	x, y := 0, 0
	const order = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.,'-:!/?&%<>@_*~^#"
	for _, r := range order {
		width, lines := readStrokes(strokes[r])
		w := int(math.Ceil(width*perUnit)) + 2*around
		if x+w > sheet {
			x, y = 0, y+lineHigh
		}
		for j := range lineHigh {
			for i := range w {
				d := distance(lines, (float64(i)+0.5-around)/perUnit, (float64(base)-float64(j)-0.5)/perUnit) * perUnit
				m.SetGray(x+i, y+j, color.Gray{uint8(255 * math.Max(0, 1-d/around))})
			}
		}
		table.Glyphs[string(r)] = glyph{x, y, w, lineHigh, width}
		x += w
	}
	return m, table
}

type segment struct{ ax, ay, bx, by float64 }

// readStrokes turns strokes into short lines.
func readStrokes(s string) (width float64, lines []segment) {
	fields := strings.Fields(s)
	width = number(fields[0])
	var x, y float64
	for i := 1; i < len(fields); {
		ax, ay := number(fields[i][1:]), number(fields[i+1])
		switch fields[i][0] {
		case 'M':
			i += 2
		case 'L':
			lines = append(lines, segment{x, y, ax, ay})
			i += 2
		case 'Q':
			bx, by := number(fields[i+2]), number(fields[i+3])
			px, py := x, y
			for k := 1; k <= 16; k++ {
				t := float64(k) / 16
				// Between a quadratic and a superellipse: rounder than the plain curve.
				qx := (1-t)*(1-t)*(1-t)*x + 3*(1-t)*(1-t)*t*(x+0.58*(ax-x)) + 3*(1-t)*t*t*(bx+0.58*(ax-bx)) + t*t*t*bx
				qy := (1-t)*(1-t)*(1-t)*y + 3*(1-t)*(1-t)*t*(y+0.58*(ay-y)) + 3*(1-t)*t*t*(by+0.58*(ay-by)) + t*t*t*by
				lines = append(lines, segment{px, py, qx, qy})
				px, py = qx, qy
			}
			ax, ay = bx, by
			i += 4
		}
		x, y = ax, ay
	}
	return width, lines
}

func number(s string) float64 {
	n, err := strconv.ParseFloat(s, 64)
	if err != nil {
		panic(err)
	}
	return n
}

func distance(lines []segment, x, y float64) float64 {
	best := math.Inf(1)
	for _, l := range lines {
		dx, dy := l.bx-l.ax, l.by-l.ay
		t := 0.0
		if length := dx*dx + dy*dy; length > 0 {
			t = math.Min(1, math.Max(0, ((x-l.ax)*dx+(y-l.ay)*dy)/length))
		}
		best = math.Min(best, math.Hypot(x-l.ax-t*dx, y-l.ay-t*dy))
	}
	return best
}
