package root

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"havvel/internal/export"
)

func TestPage(t *testing.T) {
	about := About{
		Folder: "0.4.1-dfcfc75c3b", Address: "https://lane.example/", Title: "Tinderwick Lane", Description: `Light every "lantern" – é`,
		Picture: "preview.jpg",
	}
	for name, c := range map[string]struct {
		page        string
		has, hasNot []string
	}{
		"charset": {`<!doctype html><html><head><title>Lane</title><meta charset="windows-1252"></head>`,
			[]string{`<head><meta charset="windows-1252"><base href="versions/0.4.1-dfcfc75c3b/">`}, nil},
		"content type": {`<head><meta http-equiv=Content-Type content="text/html; charset=ISO-8859-1">`,
			[]string{`<meta charset="iso-8859-1"><base `}, nil},
		"no charset":   {"<html><head><title>L\xe4rm</title>", []string{"<title>L\xe4rm</title>"}, []string{"charset"}},
		"a base":       {`<head><base href="build/"><script src=a.js></script>`, []string{`<base href="versions/0.4.1-dfcfc75c3b/build/">`}, nil},
		"no head":      {"<canvas></canvas>", []string{"</script><canvas>"}, nil},
		"doctype only": {"<!DOCTYPE html>\n<p>lane", []string{"<!DOCTYPE html><base "}, nil},
		"own previews": {`<head><meta property="og:title" content="Mine">`, []string{`"og:image"`, `"Mine"`}, []string{"Tinderwick"}},
	} {
		data, err := Page([]byte(c.page), about)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		page := string(data)
		if Version(data) != about.Folder || !Opens(data) || Version([]byte(c.page)) != "" {
			t.Errorf("%s: the page doesn't say which version it is", name)
		}
		for i := range len(page) {
			if page[i] >= 0x80 && strings.Count(page, page[i:i+1]) != strings.Count(c.page, page[i:i+1]) {
				t.Fatalf("%s: something was added that depends on the charset", name)
			}
		}
		for _, text := range append(c.has, `content="https://lane.example/versions/0.4.1-dfcfc75c3b/preview.jpg"`, `Light every &#34;lantern&#34; &#8211; &#233;`) {
			if !strings.Contains(page, text) {
				t.Errorf("%s: it lacks %s:\n%s", name, text, page[:min(len(page), 700)])
			}
		}
		for _, text := range c.hasNot {
			if strings.Contains(page, text) {
				t.Errorf("%s: it has %s", name, text)
			}
		}
	}
	for _, base := range []string{"https://cdn.example/", "/game/", "../", "//cdn.example/"} {
		if _, err := Page([]byte(`<head><base href="`+base+`">`), about); err == nil {
			t.Errorf("a page with the base %s stands at the root", base)
		}
	}
	about.Until, about.Feedback = time.Date(2027, 1, 1, 0, 0, 0, 0, time.Local), "https://lane.example/</script><b>"
	data, err := Page([]byte("<head>"), about)
	if err != nil || !strings.Contains(string(data), "This was open until 31 December 2026.") || strings.Contains(string(data), "</script><b>") {
		t.Errorf("%v: %s", err, data)
	}
	if page := string(Open(About{Title: "Lane & more", Until: about.Until})); !strings.Contains(page, "<title>Lane &amp; more</title>") ||
		!strings.Contains(page, "31 December 2026") || strings.Contains(page, "UNTIL") || !Opens([]byte(page)) || Version([]byte(page)) != "" {
		t.Errorf("the opening page is %s", page)
	}
}

func TestUnfit(t *testing.T) {
	for name, c := range map[string]struct{ page, script, why string }{
		"fine":             {`<script src=game.js></script>`, `fetch("a.json")`, ""},
		"a worker":         {`<script src=game.js></script>`, `navigator.serviceWorker.register("sw.js")`, "service worker"},
		"in the page":      {`<script>if (navigator.serviceWorker) navigator.serviceWorker.register("sw.js")</script>`, "", "service worker"},
		"a script unused":  {`<p>`, `navigator.serviceWorker.register("sw.js")`, "service worker"},
		"an own base":      {`<base href="https://cdn.example/x/">`, "", "base address of its own"},
		"a base inside":    {`<base href="./">`, "", ""},
		"no scripts":       {`<meta http-equiv="Content-Security-Policy" content="default-src 'self'">`, "", "Content-Security-Policy"},
		"a nonce":          {`<meta http-equiv="content-security-policy" content="script-src 'unsafe-inline' 'nonce-x'">`, "", "Content-Security-Policy"},
		"no base":          {`<meta http-equiv="Content-Security-Policy" content="img-src *; base-uri 'none'">`, "", "Content-Security-Policy"},
		"a policy that is": {`<meta http-equiv="Content-Security-Policy" content="script-src 'self' 'unsafe-inline' blob:">`, "", ""},
	} {
		folder := t.TempDir()
		for file, text := range map[string]string{"index.html": "<!doctype html><head>" + c.page, "game.js": c.script, "sw.js": "1"} {
			if err := os.WriteFile(filepath.Join(folder, file), []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		b, err := export.Read(t.Context(), folder)
		if err != nil {
			t.Fatal(err)
		}
		if why := Unfit(b); (why == "") != (c.why == "") || !strings.Contains(why, c.why) {
			t.Errorf("%s: %q", name, why)
		}
		b.Close()
	}
}

func FuzzPage(f *testing.F) {
	f.Add([]byte(`<!doctype html><html><head><meta charset=utf-8><base href=a/></head><body><script>1</script>`))
	f.Add([]byte("\ufeff<title>x"))
	f.Fuzz(func(t *testing.T, entry []byte) {
		data, err := Page(entry, About{Folder: "1-a"})
		if err == nil && (Version(data) != "1-a" && len(entry) < 8<<10 || len(data) < len(entry)) {
			t.Errorf("%q", data)
		}
	})
}
