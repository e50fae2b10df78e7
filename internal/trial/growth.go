package trial

import (
	"fmt"
	"math"

	"havvel/internal/finding"
	"havvel/internal/settings"
)

// Bounds of growth.
const (
	leastSamples = 16     // looks at the memory
	leastSpan    = 8000.0 // milliseconds over which they are
	growsBytes   = 20e6   // a minute, from which on memory grows
	growsNodes   = 600.0  // likewise elements
)

// growth judges whether the game takes more and more, by a straight line through what it took and that line's interval.
func (t *Trial) growth(v *View) []finding.Finding {
	var after []Memory
	for _, m := range v.Memory {
		if v.Started && m.MS > v.StartMS+1000 { // it may still be filling caches
			after = append(after, m)
		}
	}
	var list []finding.Finding
	judge := func(what string, least float64, value func(Memory) float64, words func(float64) string) {
		slope, apart, ok := line(after, value)
		if ok && slope-apart > least {
			list = append(list, finding.Finding{
				ID:      "trial-growth",
				Message: fmt.Sprintf("%s grow by %s a minute (%s to %s)", what, words(slope), words(slope-apart), words(slope+apart)),
				Fix:     "look what is made in each frame or level and never given back; watch longer with --watch",
			})
		}
	}
	bytes := func(n float64) string { return settings.Size(int64(n)).String() }
	judge("the scripts' objects", growsBytes, func(m Memory) float64 { return float64(m.Heap) }, bytes)
	judge("WebAssembly's pages", growsBytes, func(m Memory) float64 { return float64(m.Wasm) }, bytes)
	judge("WebGL's textures and buffers", growsBytes, func(m Memory) float64 { return float64(m.Graphics) }, bytes)
	judge("the page's elements", growsNodes, func(m Memory) float64 { return float64(m.Nodes) }, func(n float64) string {
		return fmt.Sprintf("%.0f", n)
	})
	return list
}

// line is how much a value grows in a minute, by least squares, and how far the true slope may be from that (95 %).
func line(list []Memory, value func(Memory) float64) (slope, apart float64, ok bool) {
	n := float64(len(list))
	if len(list) < leastSamples || float64(list[len(list)-1].MS-list[0].MS) < leastSpan {
		return 0, 0, false
	}
	var sx, sy float64
	for _, m := range list {
		sx, sy = sx+float64(m.MS)/60000, sy+value(m)
	}
	mx, my := sx/n, sy/n
	var sxx, sxy, rest float64
	for _, m := range list {
		dx := float64(m.MS)/60000 - mx
		sxx, sxy = sxx+dx*dx, sxy+dx*(value(m)-my)
	}
	slope = sxy / sxx
	for _, m := range list {
		e := value(m) - my - slope*(float64(m.MS)/60000-mx)
		rest += e * e
	}
	return slope, 2.1 * math.Sqrt(rest/(n-2)/sxx), true // Student's t, for so many looks
}
