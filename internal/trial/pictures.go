package trial

import (
	"bytes"
	"image"
	"slices"

	"golang.org/x/image/draw"

	"havvel/internal/finding"
)

// grid is how many places of a picture are compared along each side.
const grid = 24

// mostAlike is the mean difference, of 255, up to which two first screens are alike; a game moves.
const mostAlike = 38

// changed notes a first screen that differs from that of the trial before.
func (t *Trial) changed(v *View) []finding.Finding {
	if t.Before == nil {
		return nil
	}
	i := slices.IndexFunc(t.Before.Views, func(o *View) bool { return o.Name == v.Name && o.Width == v.Width && o.Height == v.Height })
	if i < 0 || len(v.Pictures) == 0 || len(t.Before.Views[i].Pictures) == 0 || !v.Started || !t.Before.Views[i].Started {
		return nil
	}
	if difference(v.Pictures[0].PNG, t.Before.Views[i].Pictures[0].PNG) <= mostAlike {
		return nil
	}
	return []finding.Finding{
		{
			ID:      "trial-changed",
			Message: "the first screen looks different from the one of the last trial",
			Fix:     "look at both in the reports: did you mean to change it?",
		},
	}
}

// difference is the mean difference between two pictures, seen from afar, from 0 to 255.
func difference(a, b []byte) float64 {
	x, y := small(a), small(b)
	if x == nil || y == nil {
		return 0
	}
	sum := 0
	for i := range x.Pix {
		d := int(x.Pix[i]) - int(y.Pix[i])
		sum += max(d, -d)
	}
	return float64(sum) / float64(len(x.Pix))
}

// small is a picture in few grey places.
func small(data []byte) *image.Gray {
	m, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil
	}
	s := image.NewGray(image.Rect(0, 0, grid, grid))
	draw.BiLinear.Scale(s, s.Bounds(), m, m.Bounds(), draw.Src, nil)
	return s
}
