package app

import (
	"context"
	"os"
	"path/filepath"

	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/serve"
	"havvel/internal/trial"
)

// stepsFile is where what was played is kept, in a project's folder.
const stepsFile = "trial-steps.txt"

// Recorded is what somebody played; as JSON it is the document of havvel trial --record.
type Recorded struct {
	Steps []string `json:"steps"`
	File  string   `json:"file"`
}

// Plays says that a window is open to play in.
type Plays struct{ Title, On string }

func (Plays) event() {}

// Record has somebody play a build in a window, as the first destination shows it, and keeps that as steps of the project's trials.
func (k *Desk) Record(ctx context.Context, b *export.Build, how Trying) (*Recorded, error) {
	if b.Entry == nil {
		return nil, noPage(b)
	}
	if len(k.Project.Trial.Steps) > 0 {
		return nil, k.Project.Problem("trial.steps", "trial.steps are there already; take them away, and record again")
	}
	programs, err := k.Browsers(how)
	if err != nil {
		return nil, err
	}
	t, err := k.trialOf(b, programs, Trying{})
	if err != nil {
		return nil, err
	}
	on := "a plain host"
	if len(k.Destinations) > 0 {
		d := k.Destinations[0]
		if t.Build, err = AsPacked(ctx, k.Project, d, b, k.Report); err != nil {
			return nil, err
		}
		t.Destination, t.Rules, on = d.Name, d.Rules, d.Rules.Name
	}
	k.Tell(Plays{TitleOf(b), on})
	rec, err := t.Record(ctx, serve.Views(t.Rules)[0], nil)
	if err != nil {
		return nil, err
	}
	if len(rec.Steps) < 2 {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fault.New(fault.No, "nothing was pressed, so there are no steps")
	}
	return &Recorded{rec.Steps, stepsFile}, k.keepSteps(rec, t.Destination)
}

// keepSteps writes recorded steps beside the project's settings, which name them from then on.
func (k *Desk) keepSteps(rec *trial.Recording, destination string) error {
	file := filepath.Join(k.Project.Folder, stepsFile)
	if _, err := os.Stat(file); err == nil && k.Project.Trial.StepsFile != stepsFile {
		return fault.New(fault.Usage, stepsFile+" is there already, and is not what trial.steps_file names")
	}
	if err := rec.Keep(k.Project.Folder, destination, file); err != nil || k.Project.Trial.StepsFile != "" {
		return err
	}
	return k.Project.PlaySteps(stepsFile)
}
