package trial

import (
	"bytes"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"image"
	"image/jpeg"
	"io"
	"math"
	"slices"
	"strings"

	"golang.org/x/image/draw"

	"havvel/internal/finding"
	"havvel/internal/settings"
)

//go:embed report.html
var reportPage string

//go:embed report.css
var reportStyle string

// Style is how pages look that show runs of a game.
func Style() template.CSS { return template.CSS(reportStyle) }

var reportTemplate = template.Must(template.New("report").Funcs(template.FuncMap{
	"style":   Style,
	"picture": func(png []byte) template.URL { return Inline(png, 1280) },
	"small":   func(png []byte) template.URL { return Inline(png, 320) },
	"inc":     func(i int) int { return i + 1 },
	"seconds": seconds,
	"size":    func(n int64) string { return settings.Size(n).String() },
	"percent": func(x float64) string { return fmt.Sprintf("%.0f %%", 100*x) },
	"tone": func(l finding.Level) string {
		return map[finding.Level]string{finding.Error: "bad", finding.Warning: "care"}[l]
	},
}).Parse(reportPage))

// Inline is a picture as it stands in a page: a JPEG, so wide at most, in pixels.
func Inline(data []byte, most int) template.URL {
	m, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return ""
	}
	w, h := m.Bounds().Dx(), m.Bounds().Dy()
	if w > most {
		w, h = most, max(1, h*most/w)
	}
	to := image.NewRGBA(image.Rect(0, 0, w, h))
	if to.Bounds() == m.Bounds() {
		draw.Draw(to, to.Bounds(), m, image.Point{}, draw.Src)
	} else {
		draw.CatmullRom.Scale(to, to.Bounds(), m, m.Bounds(), draw.Src, nil)
	}
	var b bytes.Buffer
	if jpeg.Encode(&b, to, &jpeg.Options{Quality: 82}) != nil { // only of pictures of no size
		return ""
	}
	return template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(b.Bytes()))
}

// A shown finding has the picture of a view in which it was made.
type shown struct {
	finding.Finding
	Picture *Picture
	View    string
}

// pictured finds for each finding the picture that shows it best.
func (r *Result) pictured() []shown {
	var list []shown
	for _, f := range r.Findings {
		s := shown{Finding: f}
		for _, v := range r.Views {
			if !slices.Contains(r.where[key(f)], v.Name) || len(v.Pictures) == 0 {
				continue
			}
			best := 0
			for i, p := range v.Pictures {
				if f.ID == "trial-step" && strings.Contains(p.Name, "failed") || p.Name == "turned" && strings.Contains(f.Message, "turned") {
					best = i
				}
			}
			s.Picture, s.View = &v.Pictures[best], v.Name
			break
		}
		list = append(list, s)
	}
	return list
}

func seconds(ms int) string { return fmt.Sprintf("%.1fs", float64(ms)/1000) }

// A bar is one line of a drawing over time: places and widths are in percent of the page's width.
type bar struct {
	Words       string
	Left, Width float64
	End         string
	Failed      bool
}

type tick struct {
	At    float64
	Words string
}

// reported is a view with what is drawn of it.
type reported struct {
	*View
	Bars, Marks []bar
	Ticks       []tick
	Heap, Wasm  string // memory over time, as the points of a line in a drawing of 1000 by 100
	Most        int64  // bytes at the drawing's top
	Lasted      int    // milliseconds at its right end
}

const (
	leftEdge = 35.0 // where time begins
	room     = 56.0 // how wide it is
)

func report(v *View) reported {
	r := reported{View: v}
	longest := 1.0
	for _, q := range v.Requests {
		longest = max(longest, q.EndMS, q.StartMS)
	}
	for _, e := range v.Heard {
		longest = max(longest, e.At)
	}
	step := math.Pow(10, math.Floor(math.Log10(longest)))
	if longest/step < 2.5 {
		step /= 2
	}
	for at := 0.0; at <= longest; at += step {
		r.Ticks = append(r.Ticks, tick{100 * at / longest, seconds(int(at))})
	}
	for _, q := range v.Requests {
		end, words := q.EndMS, settings.Size(q.Bytes).String()
		if end == 0 {
			end, words = longest, "did not end"
		}
		failed := q.Failed != "" || q.Status >= 400
		if failed {
			words = fmt.Sprintf("failed %s", q.Failed)
			if q.Status >= 400 {
				words = fmt.Sprint(q.Status)
			}
		}
		r.Bars = append(r.Bars, bar{q.Path, leftEdge + room*q.StartMS/longest, room * max(0, end-q.StartMS) / longest, words, failed})
	}
	for _, e := range v.Heard {
		words := "event " + e.Name
		if e.Kind == "call" {
			arguments := string(e.Arguments)
			words = e.Name + "(" + arguments[min(1, len(arguments)):max(min(1, len(arguments)), len(arguments)-1)] + ")"
		}
		r.Marks = append(r.Marks, bar{Words: words, Left: leftEdge + room*e.At/longest, End: seconds(int(e.At))})
	}
	r.memory()
	return r
}

// memory draws the lines of memory over time.
func (r *reported) memory() {
	if len(r.Memory) < 2 {
		return
	}
	r.Lasted, r.Most = r.Memory[len(r.Memory)-1].MS, 1
	for _, m := range r.Memory {
		r.Most = max(r.Most, m.Heap, m.Wasm)
	}
	point := func(ms int, n int64) string {
		return fmt.Sprintf("%.1f,%.1f ", 1000*float64(ms)/float64(max(r.Lasted, 1)), 100-96*float64(n)/float64(r.Most))
	}
	for _, m := range r.Memory {
		r.Heap += point(m.MS, m.Heap)
		if r.View.Wasm > 0 {
			r.Wasm += point(m.MS, m.Wasm)
		}
	}
}

// Report writes the result as one page that needs nothing else.
func (r *Result) Report(w io.Writer, title, portal string) error {
	errors := finding.Errors(r.Findings)
	data := struct {
		Title, Portal, Verdict, First string
		Errors                        int
		Result                        *Result
		Views                         []reported
		Found                         []shown
		Software                      bool
	}{Title: title, Portal: portal, Errors: errors, Result: r, Verdict: r.Verdict(), First: r.Views[0].Name}
	data.Found, data.Software = r.pictured(), r.Software()
	for _, v := range r.Views {
		data.Views = append(data.Views, report(v))
	}
	return reportTemplate.Execute(w, data)
}

// Software reports whether the pictures were drawn without a graphics card.
func (r *Result) Software() bool {
	return slices.ContainsFunc(r.Views, func(v *View) bool {
		name := strings.ToLower(v.Renderer)
		return strings.Contains(name, "swiftshader") || strings.Contains(name, "llvmpipe") || strings.Contains(name, "software")
	})
}

// Untold reports whether it can't be told in some view whether the game starts.
func (r *Result) Untold() bool {
	return slices.ContainsFunc(r.Views, func(v *View) bool { return v.Answer == Untold })
}

// Verdict is the result in one line.
func (r *Result) Verdict() string {
	many := map[Answer]int{}
	for _, v := range r.Views {
		many[v.Answer]++
	}
	views := func(n int) string {
		switch {
		case len(r.Views) == 1:
			return ""
		case n == len(r.Views):
			return fmt.Sprintf(" in all %d views", n)
		}
		return fmt.Sprintf(" in %d of %d views", n, len(r.Views))
	}
	var words string
	switch {
	case many[Untold] == len(r.Views):
		words = "Whether it starts can't be told"
	case many[Yes] == 0 && many[Untold] == 0:
		words = "It doesn't start"
	case many[Untold] > 0:
		words = fmt.Sprintf("It starts%s; in %d it can't be told", views(many[Yes]), many[Untold])
	default:
		words = "It starts" + views(many[Yes])
	}
	switch n := finding.Errors(r.Findings); n {
	case 0:
		if many[Untold] == len(r.Views) {
			return words
		}
		return words + ", with no errors"
	case 1:
		return words + ", with 1 error"
	default:
		return fmt.Sprintf("%s, with %d errors", words, n)
	}
}
