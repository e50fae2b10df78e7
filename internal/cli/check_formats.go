package cli

import (
	"encoding/xml"
	"fmt"
	"io"
	"net/url"
	"path"
	"path/filepath"
	"slices"

	"havvel/internal/check"
	"havvel/internal/export"
	"havvel/internal/finding"
)

// SARIF 2.1.0, the parts of it that findings fill (OASIS standard, section 3).
type sarifLog struct {
	Schema  string     `json:"$schema"`
	Version string     `json:"version"`
	Runs    []sarifRun `json:"runs"`
}

type sarifRun struct {
	Tool    sarifTool     `json:"tool"`
	Results []sarifResult `json:"results"`
}

type sarifTool struct {
	Driver sarifDriver `json:"driver"`
}

type sarifDriver struct {
	Name    string      `json:"name"`
	Version string      `json:"semanticVersion,omitempty"`
	Rules   []sarifRule `json:"rules"`
}

type sarifRule struct {
	ID      string      `json:"id"`
	Short   sarifText   `json:"shortDescription"`
	Full    sarifText   `json:"fullDescription"`
	Default sarifConfig `json:"defaultConfiguration"`
}

type sarifConfig struct {
	Level string `json:"level"`
}

type sarifText struct {
	Text string `json:"text"`
}

type sarifResult struct {
	Rule         string             `json:"ruleId"`
	Index        int                `json:"ruleIndex"`
	Level        string             `json:"level"`
	Message      sarifText          `json:"message"`
	Locations    []sarifLocation    `json:"locations"`
	Suppressions []sarifSuppression `json:"suppressions,omitempty"`
}

type sarifLocation struct {
	Physical sarifPhysical `json:"physicalLocation"`
}

type sarifPhysical struct {
	Artifact sarifArtifact `json:"artifactLocation"`
	Region   *sarifRegion  `json:"region,omitempty"`
}

type sarifArtifact struct {
	URI string `json:"uri"`
}

type sarifRegion struct {
	Line   int `json:"startLine"`
	Column int `json:"startColumn,omitempty"`
}

type sarifSuppression struct {
	Kind          string `json:"kind"`
	Justification string `json:"justification"`
}

// sarif tells findings of a catalogue of checks.
func sarif(b *export.Build, catalogue []*check.Check, findings []finding.Finding) sarifLog {
	driver := sarifDriver{Name: "havvel", Rules: []sarifRule{}}
	index := map[string]int{}
	for i, c := range catalogue {
		index[c.ID] = i
		driver.Rules = append(driver.Rules, sarifRule{c.ID, sarifText{c.Title}, sarifText{c.Text}, sarifConfig{string(c.Level)}})
	}
	run := sarifRun{Tool: sarifTool{driver}, Results: []sarifResult{}}
	for _, f := range findings {
		message := f.Message + ". " + f.Fix + "."
		if f.Destination != "" {
			message = f.Destination + ": " + message
		}
		r := sarifResult{Rule: f.ID, Index: index[f.ID], Level: string(f.Level), Message: sarifText{message}}
		l := sarifLocation{sarifPhysical{Artifact: sarifArtifact{addressOf(b, f.File)}}}
		if f.Line > 0 {
			l.Physical.Region = &sarifRegion{f.Line, f.Column}
		}
		r.Locations = []sarifLocation{l}
		if f.Accepted != "" {
			r.Suppressions = []sarifSuppression{{"external", f.Accepted}}
		}
		run.Results = append(run.Results, r)
	}
	return sarifLog{"https://json.schemastore.org/sarif-2.1.0.json", "2.1.0", []sarifRun{run}}
}

// addressOf is a file of the export as a relative address, from where havvel was called.
func addressOf(b *export.Build, file string) string {
	at := filepath.ToSlash(b.Path)
	if b.Source != "page" {
		at = path.Join(at, file)
	}
	u := url.URL{Path: at}
	if path.IsAbs(at) {
		u.Scheme = "file"
	}
	return u.String()
}

type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Name    string       `xml:"name,attr"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
	Skipped *junitSkipped `xml:"skipped,omitempty"`
	Out     string        `xml:"system-out,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

type junitSkipped struct {
	Message string `xml:"message,attr"`
}

// junit makes a test case of each check: it fails by errors, and tells the other findings as its output.
func junit(command string, destinations []string, catalogue []*check.Check, findings []finding.Finding) junitSuites {
	all := junitSuites{Name: command}
	for _, destination := range destinations {
		suite := junitSuite{Name: destination}
		if suite.Name == "" {
			suite.Name = "any host"
		}
		for _, c := range catalogue {
			mine := slices.DeleteFunc(slices.Clone(findings), func(f finding.Finding) bool { return f.ID != c.ID || f.Destination != destination })
			suite.add(c, mine)
		}
		all.Suites = append(all.Suites, suite)
	}
	return all
}

func (s *junitSuite) add(c *check.Check, findings []finding.Finding) {
	t := junitCase{Class: "havvel." + s.Name, Name: c.ID + ": " + c.Title}
	for _, f := range findings {
		line := fmt.Sprintf("%s: %s\n  %s\n", spot(f), f.Message, f.Fix)
		switch {
		case f.Accepted != "":
			t.Skipped = &junitSkipped{"accepted: " + f.Accepted}
			t.Out += line
		case f.Level != finding.Error:
			t.Out += line
		case t.Failure == nil:
			t.Failure = &junitFailure{f.Message, line}
		default:
			t.Failure.Text += line
		}
	}
	s.Tests++
	if t.Failure != nil {
		s.Failures++
		t.Skipped = nil
	}
	if t.Skipped != nil {
		s.Skipped++
	}
	s.Cases = append(s.Cases, t)
}

func writeXML(w io.Writer, v any) error {
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
