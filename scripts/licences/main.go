// Licences lists the modules that the program is built from, with their licences: a table in docs/dependencies.md, and the texts in
// dist/licences.txt, which goes with the programs. It runs in the repository's folder, and fails for a module without a licence that it
// knows, and for one of ours without a reason.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// reasons say why a module is there.
var reasons = map[string]string{
	"github.com/adrg/xdg":                "where a system keeps caches and settings",
	"github.com/andybalholm/brotli":      "brotli",
	"github.com/cenkalti/backoff/v5":     "when a request is made again",
	"github.com/chromedp/cdproto":        "what a browser is told, for chromedp",
	"github.com/chromedp/chromedp":       "a real browser",
	"github.com/clipperhouse/uax29/v2":   "what people count as letters",
	"github.com/go-json-experiment/json": "JSON of a million lines, in half of the standard library's time",
	"github.com/gofrs/flock":             "one sender at a time in a folder",
	"github.com/jackc/pgx/v5":            "PostgreSQL, for several playtest hosts",
	"github.com/jedib0t/go-pretty/v6":    "tables and progress on a terminal",
	"github.com/jlaffaye/ftp":            "FTP",
	"github.com/johannesboyne/gofakes3":  "an object store within the tests",
	"github.com/klauspost/compress":      "deflate and gzip",
	"github.com/minio/minio-go/v7":       "object stores",
	"github.com/pelletier/go-toml/v2":    "TOML",
	"github.com/pkg/sftp":                "SFTP",
	"github.com/spf13/cobra":             "commands, flags and completion",
	"github.com/studio-b12/gowebdav":     "WebDAV",
	"github.com/tdewolff/minify/v2":      "scripts and stylesheets made smaller",
	"github.com/tdewolff/parse/v2":       "tokens of scripts and stylesheets",
	"github.com/yuin/goldmark":           "Markdown",
	"github.com/kovidgoyal/imaging":      "colour profiles of pictures",
	"github.com/fyne-io/oksvg":           "drawings as masters of pictures",
	"github.com/srwiley/rasterx":         "likewise",
	"github.com/rwcarlsen/goexif":        "which way up a picture is",
	"github.com/antchfx/htmlquery":       "XPath in web pages that portals answer with",
	"github.com/antchfx/xmlquery":        "XPath in XML that portals answer with",
	"github.com/antchfx/xpath":           "XPath, read when a rulebook is",
	"github.com/expr-lang/expr":          "the expressions of rulebooks",
	"github.com/icholy/digest":           "log-ins by HTTP Digest",
	"github.com/theory/jsonpath":         "JSONPath (RFC 9535)",
	"go.yaml.in/yaml/v3":                 "OpenAPI descriptions, for rulebooks",
	"golang.org/x/oauth2":                "log-ins by OAuth 2.0",
	"github.com/zeebo/xxh3":              "a quick hash, to find compressed pieces again",
	"goftp.io/server/v2":                 "an FTP server within the tests",
	"golang.org/x/crypto":                "SSH and password hashes",
	"golang.org/x/image":                 "more formats of pictures",
	"golang.org/x/mod":                   "versions of this program, in their order",
	"golang.org/x/net":                   "HTML",
	"golang.org/x/sync":                  "parallel work within bounds",
	"golang.org/x/sys":                   "what systems know of files",
	"golang.org/x/term":                  "passwords that are not shown, and the width of a terminal",
	"golang.org/x/text":                  "forms of Unicode",
	"golang.org/x/time":                  "how often something may be asked of a host",
	"gonum.org/v1/plot":                  "plots of a round's report",
	"modernc.org/sqlite":                 "the playtest host's data",
	"github.com/coder/websocket":         "the line to Firefox, over which WebDriver BiDi is spoken",
	"rsc.io/qr":                          "codes that phones read",
}

// A module, as go list tells of it.
type module struct {
	Path, Version, Dir string
	Main, Indirect     bool
}

func main() {
	log.SetFlags(0)
	list, err := modules()
	if err != nil {
		log.Fatal("listing the modules: ", err)
	}
	var table, others, texts bytes.Buffer
	for _, m := range list {
		text, err := licence(m.Dir)
		if err != nil {
			log.Fatalf("%s: %v", m.Path, err)
		}
		kind := kindOf(text)
		if kind == "" {
			log.Fatalf("%s has a licence that is not known here; look at it in %s", m.Path, m.Dir)
		}
		fmt.Fprintf(&texts, "%s\n%s %s\n%s\n\n%s\n\n", strings.Repeat("=", 80), m.Path, m.Version, strings.Repeat("=", 80), text)
		if m.Indirect {
			fmt.Fprintf(&others, "| %s | %s | %s |\n", m.Path, m.Version, kind)
			continue
		}
		if reasons[m.Path] == "" {
			log.Fatalf("%s has no reason; write one in scripts/licences", m.Path)
		}
		fmt.Fprintf(&table, "| %s | %s | %s | %s |\n", m.Path, m.Version, reasons[m.Path], kind)
	}
	var tests bytes.Buffer
	if err := tested(&tests, list); err != nil {
		log.Fatal("listing what the tests use: ", err)
	}
	page := fmt.Sprintf(
		"# What it is built from\n\n<!-- This page is made by `make licences`; change scripts/licences. -->\n\nThe modules in the program, "+
			"why each is there, and its licence. Their texts go with the programs, in `licences.txt`.\n\n| module | version | for | licence "+
			"|\n|---|---|---|---|\n%s\nWhat these bring along:\n\n| module | version | licence |\n|---|---|---|\n%s\n"+
			"What only the tests use:\n\n| module | version | for |\n|---|---|---|\n%s",
		table.String(),
		others.String(),
		tests.String(),
	)
	if err := os.MkdirAll("dist", 0o755); err != nil {
		log.Fatal(err)
	}
	for name, data := range map[string][]byte{"docs/dependencies.md": []byte(page), "dist/licences.txt": texts.Bytes()} {
		if err := os.WriteFile(name, data, 0o644); err != nil {
			log.Fatal(err)
		}
	}
}

// tested writes the modules that go.mod names, and that are not in the program.
func tested(to *bytes.Buffer, inside []module) error {
	out, err := exec.Command("go", "list", "-m", "-json", "all").Output()
	if err != nil {
		return err
	}
	for d := json.NewDecoder(bytes.NewReader(out)); d.More(); {
		var m module
		if err := d.Decode(&m); err != nil {
			return err
		}
		if m.Main || m.Indirect || slices.ContainsFunc(inside, func(o module) bool { return o.Path == m.Path }) {
			continue
		}
		if reasons[m.Path] == "" {
			return fmt.Errorf("%s has no reason; write one in scripts/licences", m.Path)
		}
		fmt.Fprintf(to, "| %s | %s | %s |\n", m.Path, m.Version, reasons[m.Path])
	}
	return nil
}

// modules are those of the packages that the program holds, on all systems that it is built for, by their paths.
func modules() ([]module, error) {
	found := map[string]module{}
	for _, system := range []string{"linux", "darwin", "windows"} {
		c := exec.Command("go", "list", "-deps", "-json=Module", ".")
		c.Env = append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		c.Stderr = os.Stderr
		out, err := c.Output()
		if err != nil {
			return nil, err
		}
		for d := json.NewDecoder(bytes.NewReader(out)); d.More(); {
			var p struct{ Module *module }
			if err := d.Decode(&p); err != nil {
				return nil, err
			}
			if p.Module != nil && !p.Module.Main {
				found[p.Module.Path] = *p.Module
			}
		}
	}
	return slices.SortedFunc(maps.Values(found), func(a, b module) int { return strings.Compare(a.Path, b.Path) }), nil
}

// licence is the text of a module's licence.
func licence(folder string) (string, error) {
	for _, pattern := range []string{"LICEN[CS]E*", "COPYING*", "licen[cs]e*"} {
		names, err := filepath.Glob(filepath.Join(folder, pattern))
		if err != nil {
			return "", err
		}
		for _, name := range names {
			if data, err := os.ReadFile(name); err == nil {
				chosen, _ := os.ReadFile(filepath.Join(folder, "licenses", "ftl.txt")) // one module lets its users choose
				return string(data) + string(chosen), nil
			}
		}
	}
	return "", fmt.Errorf("there is no licence in %s", folder)
}

// kindOf names a licence by words that only it has.
func kindOf(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	for _, k := range []struct{ name, words string }{
		{"Apache 2.0", "Apache License Version 2.0"}, {"MPL 2.0", "Mozilla Public License Version 2.0"},
		{"BSD, 3 clauses", "Neither the name of"}, {"BSD, 3 clauses", "nor the names of"},
		{"MIT", "Permission is hereby granted, free of charge"}, {"BSD, 2 clauses", "Redistribution and use in source and binary forms"},
		{"ISC", "Permission to use, copy, modify, and/or distribute"}, {"ISC", "Permission to use, copy, modify, and distribute this software for any"},
		{"FreeType", "The FreeType License, which is similar to the original BSD license"}, {"CC BY 4.0", "Creative Commons Attribution 4.0 " +
			"International"}, {"public domain", "unencumbered software released into the public domain"},
	} {
		if strings.Contains(text, k.words) {
			return k.name
		}
	}
	return ""
}
