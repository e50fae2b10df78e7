// Package server writes the lines with which common web servers serve a site as hosting says: types, encodings, isolation, caching, and a
// password.
package server

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"havvel/internal/hosting"
)

// A Place is a site as its web server has it.
type Place struct {
	hosting.Host
	Title string // of the game
	Path  string // of the site's address: "/" or "/games/lane/"
	User  string // whom the page asks for a password; "" for nobody
	Hash  string // of the password, by bcrypt
}

// A kind is one web server.
type kind struct {
	name  string
	where string // its lines belong
	write func(*writer, Place)
}

// kinds are all, in the order of their names.
var kinds = []kind{
	{"apache", "the file .htaccess in the site's folder, or a <Directory> of that folder", apache},
	{"caddy", "the block of the site's address in the Caddyfile, beside its root and file_server", caddy},
	{"lighttpd", "lighttpd.conf, or a file in conf-enabled", lighttpd},
	{"nginx", "the server block of the site's address", nginx},
}

// Names lists the web servers that lines can be written for.
func Names() []string {
	var list []string
	for _, k := range kinds {
		list = append(list, k.name)
	}
	return list
}

// Lines are those for a web server, and where they belong; ok is false for one that isn't known.
func Lines(name string, p Place) (lines, where string, ok bool) {
	i := slices.IndexFunc(kinds, func(k kind) bool { return k.name == name })
	if i < 0 {
		return "", "", false
	}
	w := &writer{}
	isolation := map[bool]string{true: ", isolation"}[p.Isolation]
	w.line("# %s at %s: types, encodings%s and caching, as its build needs them.", p.Title, p.Path, isolation)
	w.line("# These lines belong in %s.", kinds[i].where)
	kinds[i].write(w, p)
	return w.String(), kinds[i].where, true
}

// PasswordFile is the line of the file that holds the password, and its name; "" for a server that has it among the lines.
func PasswordFile(name string, p Place) (line, file string) {
	if p.User == "" || name == "caddy" {
		return "", ""
	}
	return p.User + ":" + p.Hash, passwords
}

const (
	passwords = "/etc/havvel-passwords" // the file that holds it
	fresh     = "no-cache"
	kept      = "public, max-age=31536000, immutable"
)

type writer struct{ strings.Builder }

func (w *writer) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// A coded is an encoding, and the ending of files that have it.
type coded struct{ encoding, ending string }

// coded lists the encodings that the host sends.
func (p Place) coded() (list []coded) {
	for _, c := range []coded{{"br", "br"}, {"gzip", "gz"}} {
		if p.Serves(c.encoding) {
			list = append(list, c)
		}
	}
	return list
}

// strict are endings whose type browsers insist on, before that of an encoding.
var strict = []string{"wasm", "js", "mjs", "css", "json"}

// isolation are the headers that threads need.
func (p Place) isolation() (list [][2]string) {
	if p.Isolation {
		list = [][2]string{{"Cross-Origin-Opener-Policy", "same-origin"}, {"Cross-Origin-Embedder-Policy", "require-corp"}}
	}
	return list
}

// types lists content types, and the endings of files that have each.
func types() (names []string, endings map[string][]string) {
	endings = map[string][]string{}
	for ending, t := range hosting.Types() {
		endings[t] = append(endings[t], strings.TrimPrefix(ending, "."))
	}
	for _, list := range endings {
		slices.Sort(list)
	}
	return slices.Sorted(maps.Keys(endings)), endings
}

func nginx(w *writer, p Place) {
	headers := func(indent, cache string, more ...string) {
		for _, h := range p.isolation() {
			w.line("%sadd_header %s %s always;", indent, h[0], h[1])
		}
		w.line("%sadd_header Cache-Control %q always;", indent, cache)
		for _, m := range more {
			w.line("%s%s", indent, m)
		}
	}
	w.line("location ^~ %s {", p.Path)
	if p.User != "" {
		w.line("    auth_basic %q;", p.Title)
		w.line("    auth_basic_user_file %s;", passwords)
	}
	w.line("    index index.html;\n    default_type application/octet-stream;\n    types {")
	names, endings := types()
	for _, t := range names {
		w.line("        %q %s;", t, strings.Join(endings[t], " "))
	}
	w.line("    }")
	headers("    ", fresh)
	for _, c := range p.coded() {
		for _, ending := range append(slices.Clone(strict), "") {
			name, t := `\.`+ending+`\.`+c.ending, hosting.TypeOf("a."+ending)
			if ending == "" {
				name = `\.` + c.ending
			}
			w.line("    location ~ %s$ {\n        types { }\n        default_type %q;\n        gzip off;", name, t)
			headers("        ", kept, "add_header Content-Encoding "+c.encoding+";")
			w.line("    }")
		}
	}
	w.line("    location ~ /versions/.*(/|/index\\.html)$ {")
	headers("        ", fresh)
	w.line("    }\n    location ~ /versions/ {")
	headers("        ", kept)
	w.line("    }\n}")
}

func apache(w *writer, p Place) {
	if p.User != "" {
		w.line("AuthType Basic\nAuthName %q\nAuthUserFile %s\nRequire valid-user", p.Title, passwords)
	}
	w.line("DirectoryIndex index.html")
	names, endings := types()
	for _, t := range names {
		w.line("AddType %q .%s", t, strings.Join(endings[t], " ."))
	}
	for _, h := range p.isolation() {
		w.line("Header always set %s %q", h[0], h[1])
	}
	w.line("Header always set Cache-Control %q", fresh)
	w.line("<If \"%%{REQUEST_URI} =~ m#/versions/# && %%{REQUEST_URI} !~ m#(/|/index\\.html)$#\">")
	w.line("    Header always set Cache-Control %q\n</If>", kept)
	for _, c := range p.coded() {
		w.line("RemoveEncoding .%s\nRemoveLanguage .%s", c.ending, c.ending)
		w.line("<FilesMatch \"\\.%s$\">\n    ForceType application/octet-stream\n    Header set Content-Encoding %s", c.ending, c.encoding)
		w.line("    SetEnv no-gzip 1\n    SetEnv no-brotli 1\n</FilesMatch>")
		for _, ending := range strict {
			w.line("<FilesMatch \"\\.%s\\.%s$\">\n    ForceType %q\n</FilesMatch>", ending, c.ending, hosting.TypeOf("a."+ending))
		}
	}
}

func lighttpd(w *writer, p Place) {
	headers := func(indent, cache string, more ...[2]string) {
		list := append(p.isolation(), [2]string{"Cache-Control", cache})
		w.line("%ssetenv.set-response-header = (", indent)
		for _, h := range append(list, more...) {
			w.line("%s    %q => %q,", indent, h[0], h[1])
		}
		w.line("%s)", indent)
	}
	w.line("server.modules += ( \"mod_setenv\" )")
	if p.User != "" {
		w.line("server.modules += ( \"mod_auth\", \"mod_authn_file\" )")
	}
	w.line("$HTTP[\"url\"] =~ \"^%s\" {", p.Path)
	if p.User != "" {
		w.line("    auth.backend = \"htpasswd\"\n    auth.backend.htpasswd.userfile = %q", passwords)
		w.line("    auth.require = ( \"\" => ( \"method\" => \"basic\", \"realm\" => %q, \"require\" => \"valid-user\" ) )", p.Title)
	}
	w.line("    index-file.names = ( \"index.html\" )\n    mimetype.assign = (")
	for _, c := range p.coded() {
		for _, ending := range strict {
			w.line("        \".%s.%s\" => %q,", ending, c.ending, hosting.TypeOf("a."+ending))
		}
		w.line("        \".%s\" => \"application/octet-stream\",", c.ending)
	}
	all := hosting.Types()
	for _, ending := range slices.Sorted(maps.Keys(all)) {
		if ending != ".br" && ending != ".gz" {
			w.line("        %q => %q,", ending, all[ending])
		}
	}
	w.line("        \"\" => \"application/octet-stream\"\n    )")
	headers("    ", fresh)
	w.line("    $HTTP[\"url\"] =~ \"/versions/(?!.*(/|/index\\.html)$)\" {")
	headers("        ", kept)
	w.line("    }")
	for _, c := range p.coded() {
		w.line("    $HTTP[\"url\"] =~ \"\\.%s$\" {", c.ending)
		headers("        ", kept, [2]string{"Content-Encoding", c.encoding})
		w.line("    }")
	}
	w.line("}")
}

func caddy(w *writer, p Place) {
	set := func(name, pattern string, headers ...[2]string) {
		w.line("@%s path_regexp %s", name, pattern)
		for _, h := range headers {
			w.line("header @%s %s %q", name, h[0], h[1])
		}
	}
	at := "^" + p.Path
	if p.User != "" {
		w.line("basicauth %s* {\n    %s %s\n}", p.Path, p.User, p.Hash)
	}
	if p.Isolation {
		set("isolated", at, p.isolation()...)
	}
	set("fresh", at+`(index\.html|havvel\.json|versions/.*(/|/index\.html))?$`, [2]string{"Cache-Control", fresh})
	w.line("@kept {\n    path %sversions/*\n    not path */index.html */\n}\nheader @kept Cache-Control %q", p.Path, kept)
	names, endings := types()
	for i, t := range names {
		set(fmt.Sprintf("type%d", i), at+`.*\.(`+strings.Join(endings[t], "|")+`)$`, [2]string{"Content-Type", t})
	}
	for _, c := range p.coded() {
		for _, ending := range strict {
			set(c.ending+"_"+ending, at+`.*\.`+ending+`\.`+c.ending+"$", [2]string{"Content-Type", hosting.TypeOf("a." + ending)})
		}
		set(c.ending, at+`.*\.`+c.ending+"$", [2]string{"Content-Encoding", c.encoding})
	}
}
