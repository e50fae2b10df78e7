// Package game holds Tinderwick Lane, the demo game, and writes exports of it as an engine would. The
// sources are in src; rules.wasm is built from rules.c by rules.sh, lane.pack by make.
package game

import (
	"bytes"
	"embed"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
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
	files := common("rules.wasm", "lane.pack")
	files["rules.wasm"], files["lane.pack"] = read("rules.wasm"), read("lane.pack")
	return files
}

// Wasm is the export in the shape wasm: as WasmSplit, with the data as files of their own.
func Wasm() Files {
	data := unpacked()
	files := common(append([]string{"rules.wasm"}, slices.Sorted(maps.Keys(data))...)...)
	files["rules.wasm"] = read("rules.wasm")
	maps.Copy(files, data)
	return files
}

// Script is the export in the shape script: as Wasm, with the rules in a script.
func Script() Files {
	data := unpacked()
	files := common(slices.Sorted(maps.Keys(data))...)
	files["index.html"] = page(iconLink, styleLink, scriptTags("rules.js", "runtime.js", "loader.js"))
	files["rules.js"] = read("rules.js")
	maps.Copy(files, data)
	return files
}

const (
	iconLink  = `<link rel="icon" href="icon.png">`
	styleLink = `<link rel="stylesheet" href="style.css">`
)

// common are the files that every export of several files has; the loader brings these parts.
func common(parts ...string) Files {
	return Files{
		"index.html":   page(iconLink, styleLink, scriptTags("runtime.js", "loader.js")),
		"style.css":    read("style.css"),
		"loader.js":    loader(parts...),
		"runtime.js":   runtime(),
		"icon.png":     read("icon.png"),
		"backdrop.png": read("backdrop.png"),
	}
}

func scriptTags(names ...string) string {
	var tags []string
	for _, name := range names {
		tags = append(tags, fmt.Sprintf(`<script src="%s"></script>`, name))
	}
	return strings.Join(tags, "\n")
}

// loader is the loader's script, for these parts.
func loader(parts ...string) []byte {
	quoted := make([]string, len(parts))
	for i, p := range parts {
		quoted[i] = fmt.Sprintf("%q", p)
	}
	return bytes.Replace(read("loader.js"), []byte("{{parts}}"), []byte(strings.Join(quoted, ", ")), 1)
}

// unpacked are the parts of the data file, each as a file.
func unpacked() Files {
	pack := read("lane.pack")
	size := binary.LittleEndian.Uint32(pack[4:])
	var parts []struct {
		Name, Type     string
		Offset, Length int
	}
	if err := json.Unmarshal(pack[8:8+size], &parts); err != nil {
		panic(err) // it is part of the program
	}
	files := Files{}
	for _, p := range parts {
		name := p.Name
		switch p.Type {
		case "application/json":
			name += ".json"
		case "audio/wav":
			name += ".wav"
		}
		at := 8 + int(size) + p.Offset
		files[name] = pack[at : at+p.Length]
	}
	return files
}

// SinglePage is the export in the shape single-page: everything in one HTML file.
func SinglePage() Files {
	style := strings.ReplaceAll(string(read("style.css")), "backdrop.png", data("image/png", "backdrop.png"))
	return Files{"index.html": page(
		fmt.Sprintf(`<link rel="icon" href="%s">`, data("image/png", "icon.png")),
		"<style>\n"+style+"</style>",
		held("rules.wasm")+held("lane.pack")+
			"<script>\n"+string(runtime())+"</script>\n<script>\n"+string(loader("rules.wasm", "lane.pack"))+"</script>")}
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
	b.WriteString("return { start, unpack, gather };\n})();\n")
	return b.Bytes()
}

func data(kind, name string) string {
	return "data:" + kind + ";base64," + base64.StdEncoding.EncodeToString(read(name))
}

// held puts a file into the page, where the loader finds it.
func held(name string) string {
	return fmt.Sprintf(
		"<script type=\"application/octet-stream\" id=\"%s\">%s</script>\n",
		name,
		base64.StdEncoding.EncodeToString(read(name)),
	)
}
