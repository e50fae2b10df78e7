package trial

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"havvel/internal/browser"
	"havvel/internal/export"
	"havvel/internal/rulebook"
	"havvel/internal/serve"
)

// screen starts a screen that nobody sees. In CI, a missing program fails.
func screen(t *testing.T) {
	numbers, told, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command("Xvfb", "-displayfd", "3", "-nolisten", "tcp")
	c.ExtraFiles = []*os.File{told}
	if err := c.Start(); err != nil {
		if os.Getenv("CI") == "" {
			t.Skip("no screen: ", err)
		}
		t.Fatal(err)
	}
	told.Close()
	t.Cleanup(func() { c.Process.Kill(); c.Wait() })
	line, err := bufio.NewReader(numbers).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("DISPLAY", ":"+strings.TrimSpace(line))
}

// recorded is a game that begins with Enter, and goes on where its lantern is pressed.
const recorded = `<!DOCTYPE html><meta charset="utf-8"><title>Tinderwick Lane</title>
<style>body { margin: 0; background: #000; display: grid; place-items: center; height: 100vh }</style>
<canvas id="lane" width="320" height="180"></canvas>
<script>
const g = document.getElementById("lane").getContext("2d");
let night = 0;
const send = (event) => dispatchEvent(new CustomEvent("game-event", { detail: { event, level: night } }));
const draw = () => {
	g.fillStyle = night ? "#036" : "#630"; g.fillRect(0, 0, 320, 180);
	g.fillStyle = "#fc6"; g.fillRect(night === 2 ? 40 : 240, 60, 40, 40);
	requestAnimationFrame(draw);
};
draw();
addEventListener("keydown", (e) => { if (e.key === "Enter" && !night) night = 1, setTimeout(send, 200, "level-begun"); });
const held = {};
addEventListener("keydown", (e) => { held[e.key] = true; if (e.key === " " && held.ArrowRight) send("play-stopped"); });
addEventListener("keyup", (e) => { held[e.key] = false; });
lane.addEventListener("pointerdown", (e) => { if (night === 1 && e.offsetX > 240 && e.offsetX < 280) night = 2, send("level-ended"); });
</script>`

// asPlayed is what play does as steps. How long keys are down is the browser's: a busy one takes its time.
var asPlayed = regexp.MustCompile(`(?s)^expect picture step 1 .*
(press Enter|hold Enter for \d+ms)
.*expect event level-begun .*
tap 81\..*
expect event level-ended .*
down ArrowRight
(wait [4-9]\d\d|wait \d{4}|expect).*
(press Space|hold Space for \d+ms|down Space)
.*up ArrowRight
`)

// TestRecord: somebody plays in a window, and the steps do the same again, in a window of another shape, in each browser.
func TestRecord(t *testing.T) {
	screen(t)
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "index.html"), []byte(recorded), 0o644); err != nil {
		t.Fatal(err)
	}
	b, err := export.Read(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	for _, name := range []string{"chromium", "firefox"} {
		t.Run(name, func(t *testing.T) {
			path, err := browser.Find(name, "the test")
			if err != nil && os.Getenv("CI") == "" {
				t.Skip(err)
			}
			if err != nil {
				t.Fatal(err)
			}
			record(t, &Trial{
				Build: b, Fingerprint: b.Fingerprint, Browsers: []string{path}, Start: 10 * time.Second, Watch: time.Second,
			})
		})
	}
}

func record(t *testing.T, tr *Trial) {
	views := []rulebook.View{{Name: "frame", Size: [2]int{640, 360}}, {Name: "tall", Size: [2]int{400, 700}}}
	tr.Rules = &rulebook.Rulebook{Name: "the Shed", Views: views}
	rec, err := tr.Record(t.Context(), views[0], func(tab browser.Tab) {
		go func() {
			ctx := context.Background()
			pause(ctx, 2*time.Second) // somebody looks at the title
			tab.Key(ctx, "Enter", true)
			tab.Key(ctx, "Enter", false)
			pause(ctx, time.Second)
			m := browser.Mouse{Motion: browser.Down, X: 160 + 260, Y: 90 + 80}
			tab.Mouse(ctx, m)
			m.Motion = browser.Up
			tab.Mouse(ctx, m)
			pause(ctx, time.Second)
			tab.Key(ctx, "ArrowRight", true) // runs, and jumps meanwhile
			pause(ctx, 500*time.Millisecond)
			tab.Key(ctx, "Space", true)
			pause(ctx, 50*time.Millisecond)
			tab.Key(ctx, "Space", false)
			pause(ctx, 300*time.Millisecond)
			tab.Key(ctx, "ArrowRight", false)
			pause(ctx, 500*time.Millisecond)
			tab.Close()
		}()
	})
	if err != nil {
		t.Fatal(err)
	}
	got := strings.Join(rec.Steps, "\n")
	if !asPlayed.MatchString(got) {
		t.Errorf("recorded is:\n%s", got)
	}
	home := t.TempDir()
	if err := rec.Keep(home, "", filepath.Join(home, "steps.txt")); err != nil {
		t.Fatal(err)
	}
	if tr.Accepted, err = Accepted(home, ""); err != nil {
		t.Fatal(err)
	}
	for _, line := range rec.Steps {
		s, err := Parse(line)
		if err != nil {
			t.Fatal(err)
		}
		tr.Steps = append(tr.Steps, s)
	}
	r, err := tr.Run(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range r.Findings {
		if f.ID == "trial-step" && f.Level != "note" {
			t.Errorf("played again: %s", f.Message)
		}
	}
	for _, v := range r.Views {
		for _, name := range []string{"level-ended", "play-stopped"} {
			if !slices.ContainsFunc(v.Heard, func(e serve.Event) bool { return e.Name == name }) {
				t.Errorf("in %s there was no %s: %+v", v.Name, name, v.Heard)
			}
		}
	}
}
