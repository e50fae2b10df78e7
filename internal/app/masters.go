package app

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/pictures"
	"havvel/internal/project"
	"havvel/internal/rulebook"
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

// Masters takes screenshots and clips of the running game, and names them in havvel.toml.
func (k *Desk) Masters(ctx context.Context, b *export.Build) error {
	programs, err := k.Browsers(Trying{})
	if err != nil {
		return err
	}
	if b.Entry == nil {
		return noPage(b)
	}
	d, shots, clips := takenFor(k.Destinations)
	if d == nil {
		return fault.New(fault.No, "none of these destinations wants screenshots or a clip")
	}
	t, err := k.trialOf(b, programs, Trying{})
	if err != nil {
		return err
	}
	t.Watch = 2 * time.Second
	if t.Build, err = AsPacked(ctx, k.Project, d, b, k.Report); err != nil {
		return err
	}
	t.Destination, t.Rules = d.Name, d.Rules
	if len(t.Steps) == 0 {
		t.Watch = 6 * time.Second
		k.Tell(Unplayed{})
	}
	view := rulebook.View{Name: "frame", Size: [2]int{960, 540}}
	if len(d.Rules.Views) > 0 {
		view = d.Rules.Views[0]
	}
	files, err := k.takeStills(ctx, t, view, shots)
	if err != nil {
		return err
	}
	more, err := k.takeClips(ctx, t, view, clips)
	if err != nil {
		return err
	}
	return k.name(append(files, more...))
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
			x := wish{format: recorded(w.Takes()), size: size, limit: int64(w.Limit), seconds: w.Seconds}
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

// recorded is the format in which a clip can be recorded, of those that are taken.
func recorded(formats []string) string {
	for _, f := range formats {
		if f == "webm" || f == "gif" {
			return f
		}
	}
	return formats[0]
}

// takeStills writes the screenshots that differ most.
func (k *Desk) takeStills(ctx context.Context, t *trial.Trial, v rulebook.View, most int) ([]project.Picture, error) {
	if most == 0 {
		return nil, nil
	}
	k.Report.Begin("taking screenshots", 0)
	all, err := t.Stills(ctx, v)
	k.Report.End()
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
		if err := atomicfile.Bytes(filepath.Join(k.Project.Folder, filepath.FromSlash(m.File)), data); err != nil {
			return nil, err
		}
		k.Tell(Took{m.File, int64(len(data)), false})
		list = append(list, m)
	}
	return list, nil
}

// takeClips records the game once, and makes of that each clip that is wanted.
func (k *Desk) takeClips(ctx context.Context, t *trial.Trial, v rulebook.View, wishes []*wish) ([]project.Picture, error) {
	if len(wishes) == 0 {
		return nil, nil
	}
	longest := 0
	for _, w := range wishes {
		longest = max(longest, w.seconds)
	}
	k.Report.Begin("recording a clip", 0)
	defer k.Report.End()
	frames, err := t.Film(ctx, v, time.Duration(longest)*time.Second)
	if err != nil {
		return nil, err
	}
	var list []project.Picture
	for _, w := range wishes {
		data, err := w.make(ctx, t.Browsers[0], frames)
		if err != nil {
			return nil, err
		}
		m := project.Picture{File: path.Join(taken, fmt.Sprintf("trial-clip-%dx%d.%s", w.size[0], w.size[1], w.format)), Roles: []string{"clip"}}
		if err := atomicfile.Bytes(filepath.Join(k.Project.Folder, filepath.FromSlash(m.File)), data); err != nil {
			return nil, err
		}
		k.Tell(Took{m.File, int64(len(data)), true})
		list = append(list, m)
	}
	return list, nil
}

func (w *wish) make(ctx context.Context, program string, frames []trial.Frame) ([]byte, error) {
	length := time.Duration(w.seconds) * time.Second
	switch w.format {
	case "webm":
		return trial.WebM(ctx, program, frames, w.size[0], w.size[1], length, w.limit)
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
func (k *Desk) name(list []project.Picture) error {
	var fresh []project.Picture
	for _, m := range list {
		if !slices.ContainsFunc(k.Project.Pictures, func(o project.Picture) bool { return o.File == m.File }) {
			fresh = append(fresh, m)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	if err := k.Project.AddPictures(fresh); err != nil {
		return err
	}
	var names []string
	for _, m := range fresh {
		names = append(names, path.Base(m.File))
	}
	k.Tell(Named{names})
	return nil
}

// The events of taking masters.
type (
	// Unplayed says that the game is only looked at, since no steps play it.
	Unplayed struct{}
	// Took says that a master was taken.
	Took struct {
		File  string
		Bytes int64
		Clip  bool
	}
	// Named says which masters havvel.toml names now.
	Named struct{ Files []string }
)

func (Unplayed) event() {}
func (Took) event()     {}
func (Named) event()    {}
