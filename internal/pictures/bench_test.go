//go:build unix

package pictures

import (
	"bytes"
	"fmt"
	"image"
	"image/draw"
	"image/jpeg"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"havvel/internal/pack/slim"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// partner runs a program and returns the processor time that it took.
func partner(b *testing.B, name string, args ...string) time.Duration {
	b.Helper()
	if _, err := exec.LookPath(name); err != nil {
		b.Skipf("%s is not installed: scripts/test-partners bench installs it", name)
	}
	c := exec.Command(name, args...)
	if out, err := c.CombinedOutput(); err != nil {
		b.Fatalf("%s %q: %v\n%s", name, args, err, out)
	}
	return c.ProcessState.UserTime() + c.ProcessState.SystemTime()
}

// subjects are pictures of several kinds, as PNG: soft colours, a drawing, a screen of this product, a cover.
func subjects(b *testing.B) map[string]string {
	b.Helper()
	folder := b.TempDir()
	list := map[string]string{}
	for name, args := range map[string][]string{
		"clouds":  {"-size", "1280x720", "-seed", "7", "plasma:tomato-steelblue", "-depth", "8"},
		"drawing": {"wizard:", "-depth", "8"},
		"screen":  {filepath.Join("..", "..", "docs", "screenshots", "report.png"), "-alpha", "off", "-depth", "8"},
		"cover":   {filepath.Join("..", "..", "docs", "screenshots", "pictures.png"), "-alpha", "off", "-depth", "8", "-crop", "700x600+0+60", "+repage"},
	} {
		file := filepath.Join(folder, name+".png")
		if info, err := os.Stat(args[0]); filepath.Ext(args[0]) == ".png" && (err != nil || info.Size() == 0) {
			continue
		}
		partner(b, "convert", append(args, "PNG24:"+file)...)
		list[name] = file
	}
	return list
}

func readNRGBA(b *testing.B, file string) *image.NRGBA {
	b.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		b.Fatal(err)
	}
	m, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		b.Fatal(err)
	}
	out := image.NewNRGBA(image.Rect(0, 0, m.Bounds().Dx(), m.Bounds().Dy()))
	draw.Draw(out, out.Rect, m, m.Bounds().Min, draw.Src)
	return out
}

// likeness is the signal-to-noise ratio of luminance and of colour, in dB.
func likeness(b *testing.B, a *image.NRGBA, data []byte) (luma, chroma float64) {
	b.Helper()
	m, err := jpeg.Decode(bytes.NewReader(data))
	if err != nil {
		b.Fatal(err)
	}
	n := image.NewNRGBA(a.Rect)
	draw.Draw(n, n.Rect, m, image.Point{}, draw.Src)
	var y, c float64
	for i := 0; i < len(a.Pix); i += 4 {
		var d [3]float64
		for k := range d {
			d[k] = float64(a.Pix[i+k]) - float64(n.Pix[i+k])
		}
		l, u, v := .299*d[0]+.587*d[1]+.114*d[2], -.1687*d[0]-.3313*d[1]+.5*d[2], .5*d[0]-.4187*d[1]-.0813*d[2]
		y, c = y+l*l, c+(u*u+v*v)/2
	}
	db := func(sum float64) float64 { return 10 * math.Log10(255*255/max(1e-9, sum/float64(len(a.Pix)/4))) }
	return db(y), db(c)
}

// BenchmarkPictures compares what pictures become with what common tools make of them: JPEG of one weight with cjpeg, PNG with optipng, and
// 24 megapixels made smaller in linear light with libvips.
func BenchmarkPictures(b *testing.B) {
	b.Run("jpeg", func(b *testing.B) {
		for name, file := range subjects(b) {
			b.Run(name, func(b *testing.B) {
				m := readNRGBA(b, file)
				limit := int64(len(m.Pix) / 40)
				for b.Loop() {
					e, err := asJPEG(m, limit)
					if err != nil {
						b.Fatal(err)
					}
					y, c := likeness(b, m, e.data)
					sampling := "2x2"
					if colourful(m) {
						sampling = "1x1"
					}
					ppm, out := filepath.Join(b.TempDir(), "x.ppm"), filepath.Join(b.TempDir(), "x.jpg")
					writePPM(b, m, ppm)
					var ty, tc float64
					weight := 0
					for q := 98; q >= 20; q-- {
						partner(b, "cjpeg", "-quality", fmt.Sprint(q), "-sample", sampling, "-optimize", "-progressive", "-outfile", out, ppm)
						data, err := os.ReadFile(out)
						if err != nil {
							b.Fatal(err)
						}
						if weight = len(data); int64(weight) <= limit {
							ty, tc = likeness(b, m, data)
							break
						}
					}
					b.ReportMetric(y-ty, "dB-luma")
					b.ReportMetric(c-tc, "dB-chroma")
					b.ReportMetric(float64(len(e.data))/float64(limit), "of-limit")
					b.ReportMetric(float64(weight)/float64(limit), "cjpeg-of-limit")
				}
			})
		}
	})
	b.Run("png", func(b *testing.B) {
		for name, file := range subjects(b) {
			b.Run(name, func(b *testing.B) {
				data, err := os.ReadFile(file)
				if err != nil {
					b.Fatal(err)
				}
				for b.Loop() {
					began := time.Now()
					mine := slim.PNG(data)
					took := time.Since(began)
					out := filepath.Join(b.TempDir(), "x.png")
					theirs := partner(b, "optipng", "-quiet", "-o5", "-out", out, file)
					info, err := os.Stat(out)
					if err != nil {
						b.Fatal(err)
					}
					b.ReportMetric(float64(len(mine))/float64(info.Size()), "of-optipng")
					b.ReportMetric(took.Seconds()/theirs.Seconds(), "of-its-time")
				}
			})
		}
	})
	b.Run("scale", func(b *testing.B) {
		folder := b.TempDir()
		file := filepath.Join(folder, "large.jpg")
		partner(b, "convert", "-size", "6000x4000", "-seed", "5", "plasma:tomato-steelblue", "-quality", "92", file)
		for b.Loop() {
			before := processorTime(b)
			m, _, err := open(file, "large.jpg")
			if err != nil {
				b.Fatal(err)
			}
			scaled(m, region{0, 0, 6000, 4000}, 1280, 853).image()
			mine := processorTime(b) - before
			theirs := partner(b, "vipsthumbnail", file, "--linear", "-s", "1280x853!", "-o", filepath.Join(folder, "x.png[compression=1]"))
			b.ReportMetric(mine.Seconds()/theirs.Seconds(), "of-libvips")
		}
	})
	b.Run("masters", benchmarkMasters)
	b.Run("sharpness", benchmarkSharpness)
}

// benchmarkMasters makes covers of twenty masters of 24 megapixels, and once more.
func benchmarkMasters(b *testing.B) {
	folder := b.TempDir()
	var masters []project.Picture
	var files []string
	first := filepath.Join(folder, "first.jpg")
	partner(b, "convert", "-size", "6000x4000", "-seed", "5", "plasma:tomato-steelblue", "-quality", "92", first)
	for i := range 20 {
		name := fmt.Sprintf("m%d.jpg", i)
		files = append(files, filepath.Join(folder, name))
		if err := os.Link(first, files[i]); err != nil {
			b.Fatal(err)
		}
		masters = append(masters, project.Picture{File: name, Roles: []string{"screenshot"}})
	}
	d := &project.Destination{Name: "arcade", Rules: &rulebook.Rulebook{Name: "Arcade", PageRules: rulebook.PageRules{Pictures: []rulebook.Picture{
		{Name: "shot", Role: "screenshot", Size: [2]int{1280, 853}, Count: [2]int{0, 20}, Formats: []string{"jpeg"}},
	}}}}
	cut := func() time.Duration {
		before := processorTime(b)
		orders, err := Make(b.Context(), &project.Project{Folder: folder, Pictures: masters}, []*project.Destination{d}, progress.None)
		if err != nil || len(orders[0].Cuts) != 20 {
			b.Fatal(err)
		}
		return processorTime(b) - before
	}
	for b.Loop() {
		mine := cut()
		theirs := partner(b, "vipsthumbnail", append([]string{"--linear", "-s", "1280x853!", "-o", folder + "/%s.out[Q=92].jpg"}, files...)...)
		b.ReportMetric(mine.Seconds()/theirs.Seconds(), "of-libvips")
		b.ReportMetric(cut().Seconds()/mine.Seconds(), "second/first")
		if err := os.RemoveAll(filepath.Join(folder, ".havvel")); err != nil {
			b.Fatal(err)
		}
	}
}

// benchmarkSharpness compares what is made smaller with what libvips makes of it: how alike they are, how many pixels an edge takes, and how
// far it is overshot.
func benchmarkSharpness(b *testing.B) {
	folder := b.TempDir()
	edge, small := filepath.Join(folder, "edge.png"), filepath.Join(folder, "small.png")
	partner(b, "convert", "-size", "3000x2000", "xc:#202830", "-fill", "#e0d8c8", "-draw", "polygon 1400,0 3000,0 3000,2000 1600,2000", "PNG24:"+edge)
	for b.Loop() {
		for name, file := range subjects(b) {
			m := readNRGBA(b, file)
			w, h := m.Rect.Dx()*2/5, m.Rect.Dy()*2/5
			partner(b, "vipsthumbnail", file, "--linear", "-s", fmt.Sprintf("%dx%d!", w, h), "-o", small)
			mine := scaled(m, region{0, 0, float64(m.Rect.Dx()), float64(m.Rect.Dy())}, w, h).image()
			b.ReportMetric(similarity(mine, readNRGBA(b, small)), name+"-SSIM")
		}
		m := readNRGBA(b, edge)
		partner(b, "vipsthumbnail", edge, "--linear", "-s", "640x427!", "-o", small)
		mine, over := edgeOf(scaled(m, region{0, 0, 3000, 2000}, 640, 427).image())
		theirs, overshot := edgeOf(readNRGBA(b, small))
		b.ReportMetric(mine, "edge-px")
		b.ReportMetric(theirs, "libvips-edge-px")
		b.ReportMetric(over, "halo")
		b.ReportMetric(overshot, "libvips-halo")
	}
}

// edgeOf is how many pixels the edge across a picture takes from a tenth to nine tenths of its height, and by how much of that it is overshot;
// the mean of all lines.
func edgeOf(m *image.NRGBA) (wide, over float64) {
	for y := range m.Rect.Dy() {
		line := m.Pix[m.PixOffset(0, y):m.PixOffset(0, y+1)]
		low, high := float64(line[0]), float64(line[len(line)-4])
		at := func(part float64) float64 {
			level := low + part*(high-low)
			for x := 0; ; x++ {
				if v := float64(line[4*x+4]); v >= level {
					before := float64(line[4*x])
					return float64(x) + (level-before)/(v-before)
				}
			}
		}
		wide += at(.9) - at(.1)
		most := 0.
		for x := 0; x < len(line); x += 4 {
			most = max(most, float64(line[x])-high, low-float64(line[x]))
		}
		over += most / (high - low)
	}
	return wide / float64(m.Rect.Dy()), over / float64(m.Rect.Dy())
}

// similarity is the mean structural similarity of luminance in blocks of 8 by 8 pixels, 1 for the same picture.
func similarity(a, c *image.NRGBA) float64 {
	luma := func(m *image.NRGBA, x, y int) float64 {
		p := m.Pix[m.PixOffset(x, y):]
		return .299*float64(p[0]) + .587*float64(p[1]) + .114*float64(p[2])
	}
	sum, blocks := 0., 0.
	for y := 0; y+8 <= a.Rect.Dy(); y += 4 {
		for x := 0; x+8 <= a.Rect.Dx(); x += 4 {
			var s, t, ss, tt, st float64
			for i := range 64 {
				u, v := luma(a, x+i%8, y+i/8), luma(c, x+i%8, y+i/8)
				s, t, ss, tt, st = s+u, t+v, ss+u*u, tt+v*v, st+u*v
			}
			s, t, ss, tt, st = s/64, t/64, ss/64, tt/64, st/64
			const c1, c2 = 6.5025, 58.5225
			sum += (2*s*t + c1) * (2*(st-s*t) + c2) / ((s*s + t*t + c1) * (ss - s*s + tt - t*t + c2))
			blocks++
		}
	}
	return sum / blocks
}

func writePPM(b *testing.B, m *image.NRGBA, file string) {
	b.Helper()
	var out bytes.Buffer
	fmt.Fprintf(&out, "P6 %d %d 255\n", m.Rect.Dx(), m.Rect.Dy())
	for i := 0; i < len(m.Pix); i += 4 {
		out.Write(m.Pix[i : i+3])
	}
	if err := os.WriteFile(file, out.Bytes(), 0o644); err != nil {
		b.Fatal(err)
	}
}

// processorTime is what this process took so far.
func processorTime(b *testing.B) time.Duration {
	b.Helper()
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
