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
