package tests

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	drive "havvel/internal/browser"
)

// TestReportReadable: the report of a trial is whole on a phone and on a desktop, and light beside its pictures; with CORPUS, axe-core has
// nothing against it, in both colour schemes.
func TestReportReadable(t *testing.T) {
	t.Parallel()
	program := partner(t, "chromium")
	folder := t.TempDir()
	writeInto(t, folder, picturePage(`play(lane(canvas.getContext("2d"))); fetch("lamp.json"); localStorage.night = 3;`))
	report := filepath.Join(folder, "report.html")
	run(t, folder, "trial", "--as", "no-storage", "--report", report).must(t, 1, "trial-missing")
	data, err := os.ReadFile(report)
	if err != nil {
		t.Fatal(err)
	}
	light := 0
	for i, part := range strings.Split(string(data), "data:image/jpeg;base64,") {
		if i > 0 {
			_, part, _ = strings.Cut(part, `"`)
		}
		light += len(part)
	}
	if light > 300_000 {
		t.Errorf("beside its pictures, the report takes %d bytes", light)
	}
	axe := ""
	if corpus := os.Getenv("CORPUS"); corpus != "" {
		code, err := os.ReadFile(filepath.Join(corpus, "npm", "node_modules", "axe-core", "axe.min.js"))
		if err != nil {
			t.Fatal(err)
		}
		axe = string(code)
	}
	b, err := drive.Start(t.Context(), program)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	for _, width := range []int{390, 1280} {
		for _, dark := range []bool{false, true} {
			readable(t, b, drive.Window{Width: width, Height: 800, Dark: dark, Probe: axe}, report, axe != "")
		}
	}
}

func readable(t *testing.T, b drive.Browser, w drive.Window, page string, axe bool) {
	tab, err := b.Open(t.Context(), w, func(drive.Event) {})
	if err != nil {
		t.Fatal(err)
	}
	defer tab.Close()
	if err := tab.Go(t.Context(), "file://"+page); err != nil {
		t.Fatal(err)
	}
	wide := 0
	for end := time.Now().Add(10 * time.Second); wide == 0 && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		err := tab.Evaluate(t.Context(), "", `document.readyState === "complete" && document.querySelector("h1") ? document.body.scrollWidth : 0`, &wide)
		if err != nil && err != drive.ErrGone {
			t.Fatal(err)
		}
	}
	if wide == 0 || wide > w.Width {
		t.Errorf("the page is %d wide in a window of %d", wide, w.Width)
	}
	if !axe {
		return
	}
	var found []string
	err = tab.Evaluate(t.Context(), "", `axe.run().then((r) => r.violations.map((v) => v.id + ": " + v.nodes[0].html))`, &found)
	if err != nil || len(found) > 0 {
		t.Errorf("%d wide, dark %v: %s, %v", w.Width, w.Dark, strings.Join(found, "\n"), err)
	}
}
