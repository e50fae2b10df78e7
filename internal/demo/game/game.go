// Package game holds Tinderwick Lane, the demo game, and writes exports of it as an engine would. The
// sources are in src; rules.wasm is built from rules.c by rules.sh, lane.pack by make.
package game

import (
	"bytes"
	"embed"
	"encoding/base64"
	"fmt"
	"maps"
	"strings"
)

//go:generate go run ./make src

//go:embed src
var src embed.FS

// Files are those of an export: paths with forward slashes, and contents.
type Files map[string][]byte

// modules are the parts of the runtime script, in the order in which they need each other.
var modules = []string{"gl.js", "text.js", "sound.js", "scene.js", "play.js", "screens.js", "main.js"}

// WasmSplit is the export in the shape wasm-split: page, stylesheet, loader, runtime, WebAssembly and a
// packed data file.
func WasmSplit() Files {
	return Files{
		"index.html": page(
			`<link rel="icon" href="icon.png">`,
			`<link rel="stylesheet" href="style.css">`,
			`<script src="runtime.js"></script>`+"\n"+`<script src="loader.js"></script>`),
		"style.css":    read("style.css"),
		"loader.js":    read("loader.js"),
		"runtime.js":   runtime(),
		"rules.wasm":   read("rules.wasm"),
		"lane.pack":    read("lane.pack"),
		"icon.png":     read("icon.png"),
		"backdrop.png": read("backdrop.png"),
	}
}

// SinglePage is the export in the shape single-page: everything in one HTML file.
func SinglePage() Files {
	style := strings.ReplaceAll(string(read("style.css")), "backdrop.png", data("image/png", "backdrop.png"))
	return Files{"index.html": page(
		fmt.Sprintf(`<link rel="icon" href="%s">`, data("image/png", "icon.png")),
		"<style>\n"+style+"</style>",
		held("rules.wasm")+held("lane.pack")+
			"<script>\n"+string(runtime())+"</script>\n<script>\n"+string(read("loader.js"))+"</script>")}
}

// Changed is a copy of an export with every old in one of its files replaced by new, as after another
// export of a changed game.
func (f Files) Changed(file, old, new string) Files {
	changed := maps.Clone(f)
	changed[file] = bytes.ReplaceAll(f[file], []byte(old), []byte(new))
	return changed
}

func read(name string) []byte {
	data, err := src.ReadFile("src/" + name)
	if err != nil {
		panic(err) // it is part of the program
	}
	return data
}

func page(icon, style, scripts string) []byte {
	return []byte(strings.NewReplacer("{{icon}}", icon, "{{style}}", style, "{{scripts}}", scripts).Replace(string(read("page.html"))))
}

func runtime() []byte {
	var b bytes.Buffer
	b.WriteString("const TinderwickLane = (() => {\n\"use strict\";\n")
	for _, m := range modules {
		b.Write(read(m))
		b.WriteByte('\n')
	}
	b.WriteString("return { start };\n})();\n")
	return b.Bytes()
}

func data(kind, name string) string {
	return "data:" + kind + ";base64," + base64.StdEncoding.EncodeToString(read(name))
}

// held puts a file into the page, where the loader finds it.
func held(name string) string {
	return fmt.Sprintf("<script type=\"application/octet-stream\" id=\"%s\">%s</script>\n", name, base64.StdEncoding.EncodeToString(read(name)))
}
