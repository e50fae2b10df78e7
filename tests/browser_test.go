package tests

import (
	"bytes"
	"context"
	"fmt"
	"image"
	_ "image/png"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"havvel/internal/demo/game"
)

// browser opens a window of a real Chromium and collects what its console says of errors.
func browser(t *testing.T, width, height int64) (ctx context.Context, problems func() []string) {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(partner(t, "chromium")),
		chromedp.Flag("use-angle", "swiftshader"), chromedp.Flag("enable-unsafe-swiftshader", true),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		// The game's frame is of another site; in one process its console is heard with the page's.
		chromedp.Flag("disable-features", "IsolateOrigins,site-per-process"), chromedp.Flag("disable-site-isolation-trials", true))
	if os.Geteuid() == 0 {
		options = append(options, chromedp.NoSandbox)
	}
	ctx, stop := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(stop)
	ctx, stop = chromedp.NewContext(ctx)
	t.Cleanup(stop)
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(width, height)); err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	var said []string
	messages := chromedp.Console(ctx)
	go func() {
		for m, err := range messages {
			if err != nil {
				return
			}
			if m.IsException() || m.Type == "error" || m.Type == "warning" {
				mu.Lock()
				said = append(said, m.String())
				mu.Unlock()
			}
		}
	}()
	problems = func() []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string(nil), said...)
	}
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("the console says: %q", problems())
		}
	})
	return ctx, problems
}

func do(t *testing.T, ctx context.Context, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	if err := chromedp.Do(ctx, steps...); err != nil {
		t.Fatal(err)
	}
}

// picture takes a picture of the window and says how many colours it has and how bright its brightest is.
func picture(t *testing.T, ctx context.Context) (data []byte, colours int, brightest uint32) {
	t.Helper()
	data, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		t.Fatal(err)
	}
	colours, brightest = variety(t, data)
	return data, colours, brightest
}

// variety is how many colours a picture has, and the brightest.
func variety(t *testing.T, data []byte) (colours int, brightest uint32) {
	t.Helper()
	m, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	seen := map[[3]uint32]bool{}
	for y := m.Bounds().Min.Y; y < m.Bounds().Max.Y; y += 3 {
		for x := m.Bounds().Min.X; x < m.Bounds().Max.X; x += 3 {
			r, g, b, _ := m.At(x, y).RGBA()
			seen[[3]uint32{r >> 8, g >> 8, b >> 8}] = true
			brightest = max(brightest, (r+g+b)/3>>8)
		}
	}
	return len(seen), brightest
}

// watch opens a page and jumps in its clip.
func watch(t *testing.T, ctx context.Context, file string) {
	t.Helper()
	type film struct{ Length, Width, At float64 }
	if err := chromedp.Do(ctx, chromedp.Navigate("file://"+file)); err != nil {
		t.Fatal(err)
	}
	clip, err := chromedp.Run(ctx, chromedp.Evaluate[film](`new Promise((done, fail) => {
		const v = document.querySelector("video");
		v.onerror = () => fail(new Error(v.error.message));
		v.onseeked = () => done({ length: v.duration, width: v.videoWidth, at: v.currentTime });
		const jump = () => { v.currentTime = v.duration / 2; };
		v.readyState > 0 ? jump() : v.onloadedmetadata = jump;
	})`, chromedp.EvalAwaitPromise))
	if err != nil || clip.Length < 3 || clip.Length > 60 || clip.Width < 100 || clip.At < 1 {
		t.Errorf("the clip can't be played, or jumped in: %+v %v", clip, err)
	}
}

// TestPublicPage plays the game through the portal's public page.
func TestPublicPage(t *testing.T) {
	t.Parallel()
	ctx, problems := browser(t, 1280, 800)
	a, project := portal(t, nil)
	run(t, project, "send", "--wait").must(t, 0)
	run(t, project, "publish").must(t, 0)
	do(t, ctx, chromedp.Navigate(a.Address()+"/play/tinderwick-lane"))
	var first []byte
	eventually(t, "the page is blank or dark", func() (any, bool) {
		data, colours, brightest := picture(t, ctx)
		first = data
		return fmt.Sprintf("%d colours, brightest %d", colours, brightest), colours >= 500 && brightest >= 150
	})
	eventually(t, "all pictures are the same: the game does not move", func() (any, bool) {
		second, _, _ := picture(t, ctx)
		return len(second), !bytes.Equal(first, second)
	})
	if len(problems()) > 0 {
		t.Error("the console has errors")
	}
	frame, err := chromedp.Run(
		ctx,
		chromedp.Evaluate[[]float64](
			`(() => { const r = document.getElementById("frame").getBoundingClientRect(); return [r.width, r.height]; })()`,
		),
	)
	if err != nil || frame[0] != 960 || frame[1] != 540 {
		t.Errorf("the frame is %v, not 960 by 540 (%v)", frame, err)
	}
}

// serve serves an export as a host does.
func serve(t *testing.T, files game.Files) string {
	t.Helper()
	s := httptest.NewServer(http.FileServer(http.Dir(write(t, files))))
	t.Cleanup(s.Close)
	return s.URL
}

// TestGame plays the export in every shape: a night is solved by keys, and the best is kept.
func TestGame(t *testing.T) {
	t.Parallel()
	for shape, files := range map[string]game.Files{"wasm-split": game.WasmSplit(), "single-page": game.SinglePage(), "wasm": game.Wasm(),
		"script": game.Script()} {
		t.Run(shape, func(t *testing.T) {
			ctx, problems := browser(t, 480, 320)
			do(t, ctx, chromedp.Navigate(serve(t, files)+"/"), chromedp.WaitNotPresent(chromedp.CSS("#loading")))
			// The first night has two lanterns, and one press lights both.
			eventually(t, "the best of the first night is not kept", func() (any, bool) {
				do(t, ctx, chromedp.KeyEvent(kb.Enter), chromedp.Sleep(500*time.Millisecond))
				kept, err := chromedp.Run(ctx, chromedp.Evaluate[string](`localStorage.getItem("tinderwick-lane") || ""`))
				return kept, err == nil && strings.Contains(kept, `"bests":{"0":1`)
			})
			if len(problems()) > 0 {
				t.Error("the console has errors")
			}
		})
	}
}

// TestNightsCanBeSolved solves every night by the rules' own hints, in as few turns as they promise.
func TestNightsCanBeSolved(t *testing.T) {
	ctx, _ := browser(t, 320, 240)
	all := game.Script()
	maps.Copy(all, game.WasmSplit())
	do(t, ctx, chromedp.Navigate(serve(t, all)+"/style.css"))
	type night struct {
		Name           string
		Needed, Turned int
		Asked          int
		Solved         bool
	}
	nights, err := chromedp.Run(ctx, chromedp.Evaluate[[]night](`(async () => {
		const { instance: { exports: rules } } = await WebAssembly.instantiate(await (await fetch("rules.wasm")).arrayBuffer());
		const pack = new Uint8Array(await (await fetch("lane.pack")).arrayBuffer());
		const length = new DataView(pack.buffer).getUint32(4, true), text = (b) => JSON.parse(new TextDecoder().decode(b));
		const at = text(pack.subarray(8, 8 + length)).find((p) => p.name === "nights");
		return text(pack.subarray(8 + length + at.offset, 8 + length + at.offset + at.length)).map((n) => {
			const w = n.rows[0].length, h = n.rows.length;
			let low = 0, high = 0;
			n.rows.forEach((row, y) => [...row].forEach((c, x) => { const p = y * w + x; if (c === "o") p < 32 ? (low |= 1 << p) : (high |= 1 `+
		`<< (p - 32)); }));
			rules.lay(w, h, high, low);
			const needed = rules.make(n.seed, n.turns);
			let turned = 0;
			while (!rules.solved() && turned < 60) { rules.turn(rules.hint()); turned++; }
			return { Name: n.name, Asked: n.turns, Needed: needed, Turned: turned, Solved: rules.solved() === 1 };
		});
	})()`, chromedp.EvalAwaitPromise))
	if err != nil {
		t.Fatal(err)
	}
	agree, err := chromedp.Run(ctx, chromedp.Evaluate[string](`(async () => {
		const { instance: { exports: wasm } } = await WebAssembly.instantiate(await (await fetch("rules.wasm")).arrayBuffer());
		const script = new Function(await (await fetch("rules.js")).text() + "; return TinderwickRules;")();
		for (const n of await (await fetch("nights.json")).json()) {
			const say = (rules) => {
				const w = n.rows[0].length, h = n.rows.length;
				let low = 0, high = 0, said = "";
				n.rows.forEach((row, y) => [...row].forEach((c, x) => { const p = y * w + x; if (c === "o") p < 32 ? (low |= 1 << p) : (high |= 1 `+
		`<< (p - 32)); }));
				said += rules.lay(w, h, high, low) + " " + rules.make(n.seed, n.turns) + " " + rules.turn(999);
				for (let i = 0; i < 60 && !rules.solved(); i++) { const p = rules.hint(); said += " " + p + rules.turn(p) + rules.is_lit(p); }
				return said;
			};
			if (say(wasm) !== say(script)) return n.name + ": " + say(wasm) + " | " + say(script);
		}
		return "";
	})()`, chromedp.EvalAwaitPromise))
	if err != nil || agree != "" {
		t.Errorf("WebAssembly and script don't agree: %s (%v)", agree, err)
	}
	if len(nights) < 20 {
		t.Errorf("there are %d nights", len(nights))
	}
	for _, n := range nights {
		if !n.Solved || n.Needed != n.Turned || n.Needed < 1 || n.Needed > n.Asked {
			t.Errorf("%+v", n)
		}
	}
}
