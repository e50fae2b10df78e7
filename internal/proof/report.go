package proof

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"

	"havvel/internal/atomicfile"
	"havvel/internal/trial"
)

//go:embed report.html
var reportPage string

var reportTemplate = template.Must(template.New("proof").Funcs(template.FuncMap{
	"style":   trial.Style,
	"picture": func(png []byte) template.URL { return trial.Inline(png, 900) },
}).Parse(reportPage))

// A shown side has its words.
type shown struct {
	Name, Says, Tone string
	Run              *Run
}

func showOf(name string, r *Run) shown {
	s := shown{Name: name, Run: r, Tone: "care", Says: "whether it starts can't be told"}
	switch r.Answer {
	case trial.Yes:
		s.Tone, s.Says = "good", fmt.Sprintf("starts after %.1f s", float64(r.StartMS)/1000)
	case trial.No:
		s.Tone, s.Says = "bad", "doesn't start"
	}
	return s
}

// Report writes a page that shows both sides.
func (p *Proof) Report(file, title, portal string) error {
	verdict, tone := "It runs as well as the export", "good"
	switch p.Answer {
	case Worse:
		verdict, tone = "It runs worse than the export", "bad"
	case Untold:
		verdict, tone = "Not proven: "+p.Why, "care"
	}
	var b bytes.Buffer
	err := reportTemplate.Execute(&b, map[string]any{
		"Title": title, "Portal": portal, "Proof": p, "Verdict": verdict, "Tone": tone,
		"Sides": []shown{showOf("the export", p.Export), showOf("handed over", p.Handed)},
	})
	if err != nil {
		return fmt.Errorf("writing the proof's page: %w", err)
	}
	return atomicfile.Bytes(file, b.Bytes())
}
