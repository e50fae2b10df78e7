package pictures

import (
	"image"
	"image/color"
	"math"
)

// scenes are covers of games that don't exist: the colours of a sky and a ground, and of what stands between them.
var scenes = [][4]color.NRGBA{
	{{255, 176, 84, 255}, {214, 75, 98, 255}, {58, 28, 66, 255}, {255, 240, 190, 255}},
	{{96, 196, 236, 255}, {232, 250, 255, 255}, {52, 140, 74, 255}, {250, 214, 60, 255}},
	{{22, 26, 60, 255}, {86, 44, 130, 255}, {12, 12, 30, 255}, {90, 240, 220, 255}},
	{{246, 226, 190, 255}, {240, 166, 120, 255}, {150, 74, 50, 255}, {60, 44, 60, 255}},
	{{40, 70, 62, 255}, {120, 170, 110, 255}, {20, 36, 34, 255}, {240, 120, 60, 255}},
	{{230, 232, 240, 255}, {150, 180, 220, 255}, {70, 90, 140, 255}, {220, 60, 70, 255}},
	{{70, 10, 20, 255}, {200, 50, 30, 255}, {20, 6, 10, 255}, {255, 210, 90, 255}},
	{{180, 230, 200, 255}, {250, 250, 220, 255}, {240, 130, 160, 255}, {90, 60, 140, 255}},
}

// scene draws one of them: hills below a sky, a light in it, and someone who stands there.
func scene(w, h, which int) *image.NRGBA {
	s := scenes[which]
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	f := float64(which + 2)
	for y := range h {
		down := float64(y) / float64(h)
		for x := range w {
			across := float64(x) / float64(w)
			c := mixed(s[0], s[1], down)
			if math.Hypot((across-.22-.07*f)*float64(w), (down-.28)*float64(h)) < float64(h)*.11 {
				c = s[3]
			}
			for hill := range 3 {
				top := .5 + .15*float64(hill) + .08*math.Sin(across*f*(2.2-.4*float64(hill))+f*float64(hill+1))
				if down > top {
					c = mixed(s[1], s[2], .35+.3*float64(hill))
				}
			}
			if math.Abs(across-.6) < .045 && down > .5 && down < .82 || math.Hypot((across-.6)*float64(w), (down-.46)*float64(h)) < float64(h)*.07 {
				c = mixed(s[3], s[2], .2)
			}
			m.SetNRGBA(x, y, c)
		}
	}
	return m
}

func mixed(a, b color.NRGBA, part float64) color.NRGBA {
	of := func(x, y uint8) uint8 { return uint8(float64(x)*(1-part) + float64(y)*part) }
	return color.NRGBA{of(a.R, b.R), of(a.G, b.G), of(a.B, b.B), 255}
}
