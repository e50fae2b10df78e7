package cli

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"havvel/internal/app"
	"havvel/internal/atomicfile"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/pictures"
	"havvel/internal/project"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
	"havvel/internal/trial"
)

// taken is where masters from a trial are kept, in the project.
const taken = "page"

// A wish is a clip that some destination wants.
type wish struct {
	format  string
	size    [2]int
	limit   int64
	seconds int
}

// takeMasters takes screenshots and clips of the running game, and names them in havvel.toml.
func (a *console) takeMasters(ctx context.Context) error {
	browser, err := trial.FindBrowser()
	if err != nil {
		return err
	}
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	_, b, err := app.Open(ctx, nil, a.entry, app.Known)
	if err != nil {
		return err
	}
	defer b.Close()
	if b.Entry == nil {
		return &export.Unreadable{
			Path:   b.Path,
			Reason: "there is no page in it that could be run",
			Next:   "name the folder or zip that the engine wrote",
		}
	}
	d, shots, clips := takenFor(destinations)
	if d == nil {
		return fmt.Errorf("none of these destinations wants screenshots or a clip")
	}
	t := &trial.Trial{Build: b, Fingerprint: b.Fingerprint, Browser: browser, Start: 20 * time.Second, Watch: 2 * time.Second}
	if err := fill(t, p, trialFlags{}); err != nil {
		return err
	}
	if t.Build, err = app.AsPacked(ctx, p, d, b, a.screen.Progress()); err != nil {
		return err
	}
	t.Destination, t.Rules = d.Name, d.Rules
	if len(t.Steps) == 0 {
		t.Watch = 6 * time.Second
		a.screen.Warn("the game is only looked at, since [trial] in havvel.toml has no steps that play it")
	}
	view := rulebook.View{Name: "frame", Size: [2]int{960, 540}}
	if len(d.Rules.Views) > 0 {
		view = d.Rules.Views[0]
	}
	files, err := a.takeStills(ctx, p, t, view, shots)
	if err != nil {
		return err
	}
	more, err := a.takeClips(ctx, p, t, view, clips)
	if err != nil {
		return err
	}
	return a.name(p, append(files, more...))
}

// takenFor is a destination that wants pictures of the running game, how many, and the clips that all of them want.
func takenFor(destinations []*project.Destination) (first *project.Destination, shots int, clips []*wish) {
	for _, d := range destinations {
		for _, w := range d.Rules.Pictures {
			if w.Role != "screenshot" && w.Role != "clip" {
				continue
			}
			if first == nil {
				first = d
			}
			if w.Role == "screenshot" {
				shots = max(shots, w.Fewest(), 3)
				continue
			}
			size := w.Size
			if size[0] == 0 {
				size = w.Least
			}
			x := wish{format: w.Takes()[0], size: size, limit: int64(w.Limit), seconds: w.Seconds}
			if x.seconds == 0 {
				x.seconds = 10
			}
			i := slices.IndexFunc(clips, func(o *wish) bool { return o.format == x.format && o.size == x.size })
			if i < 0 {
				i, clips = len(clips), append(clips, &x)
			}
			c := clips[i]
			c.seconds = min(c.seconds, x.seconds)
			if x.limit > 0 && (c.limit == 0 || x.limit < c.limit) {
				c.limit = x.limit
			}
		}
	}
	return first, shots, clips
}

// takeStills writes the screenshots that differ most.
func (a *console) takeStills(ctx context.Context, p *project.Project, t *trial.Trial, v rulebook.View, most int) ([]project.Picture, error) {
	if most == 0 {
		return nil, nil
	}
	progress := a.screen.Progress()
	progress.Begin("taking screenshots", 0)
	all, err := t.Stills(ctx, v)
	progress.End()
	if err != nil {
		return nil, err
	}
	varied, err := pictures.Varied(all, most)
	if err != nil {
		return nil, err
	}
	var list []project.Picture
	for i, data := range varied {
		m := project.Picture{File: path.Join(taken, fmt.Sprintf("trial-shot-%d.png", i+1)), Roles: []string{"screenshot"}}
		if err := atomicfile.Bytes(filepath.Join(p.Folder, filepath.FromSlash(m.File)), data); err != nil {
			return nil, err
		}
		a.screen.Line("took %s  %s", m.File, a.screen.In(term.Quiet, settings.Size(len(data)).String()))
		list = append(list, m)
	}
	return list, nil
}

// takeClips records the game once, and makes of that each clip that is wanted.
func (a *console) takeClips(
	ctx context.Context,
	p *project.Project,
	t *trial.Trial,
	v rulebook.View,
	wishes []*wish,
) ([]project.Picture, error) {
	if len(wishes) == 0 {
		return nil, nil
	}
	longest := 0
	for _, w := range wishes {
		longest = max(longest, w.seconds)
	}
	progress := a.screen.Progress()
	progress.Begin("recording a clip", 0)
	defer progress.End()
	frames, err := t.Film(ctx, v, time.Duration(longest)*time.Second)
	if err != nil {
		return nil, err
	}
	var list []project.Picture
	for _, w := range wishes {
		data, err := w.make(ctx, t.Browser, frames)
		if err != nil {
			return nil, err
		}
		m := project.Picture{File: path.Join(taken, fmt.Sprintf("trial-clip-%dx%d.%s", w.size[0], w.size[1], w.format)), Roles: []string{"clip"}}
		if err := atomicfile.Bytes(filepath.Join(p.Folder, filepath.FromSlash(m.File)), data); err != nil {
			return nil, err
		}
		a.screen.Line("recorded %s  %s", m.File, a.screen.In(term.Quiet, settings.Size(len(data)).String()))
		list = append(list, m)
	}
	return list, nil
}

func (w *wish) make(ctx context.Context, browser string, frames []trial.Frame) ([]byte, error) {
	length := time.Duration(w.seconds) * time.Second
	switch w.format {
	case "webm":
		return trial.WebM(ctx, browser, frames, w.size[0], w.size[1], length, w.limit)
	case "gif":
		var list []pictures.Frame
		for _, f := range frames {
			list = append(list, pictures.Frame{MS: f.MS, Data: f.JPEG})
		}
		return pictures.GIF(list, w.size[0], w.size[1], length, w.limit)
	}
	return nil, errors.New("a clip can be recorded as WebM or GIF; the rulebook wants " + w.format)
}

// name writes masters into havvel.toml that it does not name yet.
func (a *console) name(p *project.Project, list []project.Picture) error {
	var fresh []project.Picture
	for _, m := range list {
		if !slices.ContainsFunc(p.Pictures, func(o project.Picture) bool { return o.File == m.File }) {
			fresh = append(fresh, m)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	if err := p.AddPictures(fresh); err != nil {
		return err
	}
	var names []string
	for _, m := range fresh {
		names = append(names, path.Base(m.File))
	}
	a.screen.Line("named in %s as masters: %s", project.Name, strings.Join(names, ", "))
	return nil
}
