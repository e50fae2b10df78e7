package app

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"havvel/internal/export"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/round"
	"havvel/internal/round/sourcemap"
)

// Trace says where in the game's sources errors of a round come from, where the project has source maps for its scripts. It does so only
// for a script that is in the archive that testers played, byte by byte as in the export: a map of another one would name wrong lines.
func Trace(ctx context.Context, p *project.Project, version string, errors []round.Error) {
	if len(errors) == 0 {
		return
	}
	played := playedArchive(ctx, p, version)
	if played == nil {
		return
	}
	defer played.Close()
	own, err := export.Read(ctx, filepath.Join(p.Folder, filepath.FromSlash(p.Game.Export)))
	if err != nil {
		return
	}
	defer own.Close()
	t := &tracer{played: played, own: own, maps: map[string]*sourcemap.Map{}}
	for i := range errors {
		errors[i].Source = t.source(&errors[i])
	}
}

// playedArchive is what was sent to a playtest host as a version; nil where it isn't here any more.
func playedArchive(ctx context.Context, p *project.Project, version string) *export.Build {
	all, _, err := logbook.Open(p.Folder).Deliveries()
	if err != nil {
		return nil
	}
	for i := len(all) - 1; i >= 0; i-- {
		d := p.To[all[i].Destination]
		if d == nil || d.Rules == nil || !d.Rules.Rounds || all[i].Version != version {
			continue
		}
		if b, why, err := packedArchive(ctx, p, d, all[i]); err == nil && why == "" {
			return b
		}
	}
	return nil
}

type tracer struct {
	played, own *export.Build
	maps        map[string]*sourcemap.Map // of scripts; nil for those without
}

// frame is a place in a script, as browsers write it in a stack.
var frame = regexp.MustCompile(`([^\s()@]+):(\d+):(\d+)\)?\s*$`)

// source is the innermost place of an error that a map knows; "" where none does.
func (t *tracer) source(e *round.Error) string {
	places := [][]string{{"", e.File, e.Line, e.Column}}
	for line := range strings.Lines(e.Stack) {
		if m := frame.FindStringSubmatch(strings.TrimSpace(line)); m != nil {
			places = append(places, m)
		}
	}
	if len(places) > 1 { // the stack begins where the error was made; what the browser names may be the page's own
		places = append(places[1:], places[0])
	}
	for _, m := range places {
		line, _ := strconv.Atoi(m[2])
		column, _ := strconv.Atoi(m[3])
		if found := t.mapOf(scriptOf(m[1])); found != nil {
			if p, ok := found.At(line, column); ok {
				return fmt.Sprintf("%s:%d", path.Clean(strings.TrimLeft(p.Source, "./")), p.Line)
			}
		}
	}
	return ""
}

// scriptOf is the path inside a build that an address names.
func scriptOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	name := strings.TrimPrefix(u.Path, "/")
	if _, rest, ok := strings.Cut("/"+name, "/p/"); ok { // each round has an address of its own
		_, name, _ = strings.Cut(rest, "/")
	}
	return name
}

func (t *tracer) mapOf(name string) *sourcemap.Map {
	if m, known := t.maps[name]; known {
		return m
	}
	m := t.read(name)
	t.maps[name] = m
	return m
}

func (t *tracer) read(name string) *sourcemap.Map {
	played, own := t.played.File(t.played.Base+name), t.own.File(t.own.Base+name)
	if name == "" || played == nil || own == nil || played.SHA256 != own.SHA256 {
		return nil
	}
	address, inside := sourcemap.Named(bytesOf(own))
	if inside == nil {
		if address == "" {
			address = path.Base(name) + ".map"
		}
		if unescaped, err := url.PathUnescape(address); err == nil {
			address = unescaped
		}
		f := t.own.File(t.own.Base + path.Join(path.Dir(name), address))
		if f == nil {
			return nil
		}
		inside = bytesOf(f)
	}
	m, err := sourcemap.Read(inside)
	if err != nil {
		return nil
	}
	return m
}

// mostScript is how much of a script or a map is read, in bytes.
const mostScript = 64 << 20

func bytesOf(f *export.File) []byte {
	r, err := f.Open()
	if err != nil {
		return nil
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, mostScript))
	if err != nil {
		return nil
	}
	return data
}
