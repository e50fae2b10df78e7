// Page-shot takes a picture of a page after a few steps, for docs/screenshots.
//
//	go run ./scripts/page-shot OUT.png URL WIDTHxHEIGHT [STEP...]
//
// A step is wait:SECONDS, press:X,Y (CSS pixels), key:NAME or script:TEXT.
package main

import (
	"context"
	"fmt"
	"log"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) < 4 {
		log.Fatal("usage: page-shot OUT.png URL WIDTHxHEIGHT [wait:S | press:X,Y | key:NAME]...")
	}
	if err := shoot(os.Args[1], os.Args[2], os.Args[3], os.Args[4:]); err != nil {
		log.Fatal("page-shot: ", err)
	}
}

func shoot(out, address, size string, steps []string) error {
	var w, h int64
	if _, err := fmt.Sscanf(size, "%dx%d", &w, &h); err != nil {
		return fmt.Errorf("size %q: %w", size, err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.Flag("use-angle", "swiftshader"), chromedp.Flag("enable-unsafe-swiftshader", true),
		chromedp.Flag("disable-quic", true), chromedp.WindowSize(int(w), int(h)))
	if os.Geteuid() == 0 {
		options = append(options, chromedp.NoSandbox)
	}
	ctx, stop := chromedp.NewExecAllocator(context.Background(), options...)
	defer stop()
	ctx, stop = chromedp.NewContext(ctx)
	defer stop()
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(w, h), chromedp.Navigate(address)); err != nil {
		return err
	}
	for _, step := range steps {
		if err := take(ctx, step); err != nil {
			return fmt.Errorf("%s: %w", step, err)
		}
	}
	picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(out, picture, 0o644)
}

var keys = map[string]string{
	"Enter":  kb.Enter,
	"Left":   kb.ArrowLeft,
	"Right":  kb.ArrowRight,
	"Up":     kb.ArrowUp,
	"Down":   kb.ArrowDown,
	"Escape": kb.Escape,
}

func take(ctx context.Context, step string) error {
	kind, what, _ := strings.Cut(step, ":")
	switch kind {
	case "wait":
		var seconds float64
		if _, err := fmt.Sscan(what, &seconds); err != nil {
			return err
		}
		return chromedp.Do(ctx, chromedp.Sleep(time.Duration(seconds*float64(time.Second))))
	case "press":
		var x, y float64
		if _, err := fmt.Sscanf(what, "%f,%f", &x, &y); err != nil {
			return err
		}
		return chromedp.Do(ctx, chromedp.MouseClickXY(x, y))
	case "key":
		if k, ok := keys[what]; ok {
			what = k
		}
		return chromedp.Do(ctx, chromedp.KeyEvent(what))
	case "script":
		return chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](what))
	}
	return fmt.Errorf("there is no such step")
}
