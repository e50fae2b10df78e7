package app

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"

	"havvel/internal/check"
	"havvel/internal/compare"
	"havvel/internal/export"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/inwords"
	"havvel/internal/logbook"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
)

// comparing is what two builds are looked for with.
type comparing struct {
	project *project.Project // nil for none
	to      []string         // destinations; none for all
	entry   string
	report  progress.Reporter
}

// Compare says what changed between two builds. names are up to two paths or versions that were sent; left out, the first is the version
// that was sent last, and the second what would be packed of the project's export. entry names another entry page than Havvel finds.
func Compare(ctx context.Context, p *project.Project, names, to []string, entry string, report progress.Reporter) (*compare.Result, error) {
	c := &comparing{p, to, entry, report}
	names = append(slices.Clone(names), "", "")
	from, d, err := c.side(ctx, names[0], nil, true)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	other, sentTo, err := c.side(ctx, names[1], d, false)
	if err != nil {
		return nil, err
	}
	defer other.Close()
	if d == nil {
		d = sentTo
	}
	return compare.Builds(from, other, wantedCalls(p), func(b *export.Build) []finding.Finding {
		s := check.Subject{Build: b}
		if d != nil {
			s.Destination, s.Rules = d.Name, d.Rules
		}
		if p != nil {
			s.Accepts = Accepts(p)
		}
		return check.Run(s)
	}), nil
}

// side is one of the two builds: a path, a version that was sent, or what is meant when nothing is said. A version that was
// sent belongs to a destination, which is returned; with one, the project's export is what would be packed for it.
func (c *comparing) side(
	ctx context.Context,
	name string,
	d *project.Destination,
	first bool,
) (*export.Build, *project.Destination, error) {
	if name != "" && Exists(name) {
		b, err := Known(ctx, c.project, name)
		return b, nil, err
	}
	if c.project == nil && name != "" {
		return nil, nil, &export.Unreadable{
			Path:   name,
			Reason: "there is nothing there",
			Next:   "name two exports or archives; versions can be named where there is a " + project.Name,
		}
	}
	if c.project == nil {
		return nil, nil, fault.New(fault.Usage, "there is nothing to compare: name two exports or archives")
	}
	if name != "" || first {
		return c.sent(ctx, name)
	}
	b, err := Known(ctx, c.project, inwords.Near(c.project.ExportPath()))
	if err == nil {
		err = Enter(c.project, b, c.entry, true)
	}
	if err != nil || d == nil {
		return b, nil, err
	}
	result, err := AsPacked(ctx, c.project, d, b, c.report)
	if err != nil {
		return nil, nil, err
	}
	result.Path = fmt.Sprintf("%s, as it would be packed for %s", b.Path, d.Rules.Name)
	return result, d, nil
}

// sent is the archive of a version that was sent, the last one when none is named.
func (c *comparing) sent(ctx context.Context, version string) (*export.Build, *project.Destination, error) {
	all, _, err := logbook.Open(c.project.Folder).Deliveries()
	if err != nil {
		return nil, nil, err
	}
	for _, l := range slices.Backward(all) {
		d := c.project.To[l.Destination]
		if d == nil || version != "" && l.Version != version || len(c.to) > 0 && !slices.Contains(c.to, l.Destination) {
			continue
		}
		b, err := archiveOf(ctx, c.project, d, l)
		return b, d, err
	}
	if version == "" {
		return nil, nil, fault.New(fault.Usage, "nothing was sent yet, so there is no version to compare with: name two exports or archives")
	}
	return nil, nil, &export.Unreadable{
		Path:   version,
		Reason: "it is neither a file or folder nor a version that was sent",
		Next:   "havvel where shows the versions that were sent",
	}
}

// archiveOf reads the archive of a delivery, if it is still the one that was sent.
func archiveOf(ctx context.Context, p *project.Project, d *project.Destination, l *logbook.Delivery) (*export.Build, error) {
	stem := ArchivePath(p, d, "", l.Version)
	b, err := pack.Read(ctx, stem)
	gone := func(why string) error {
		return &export.Unreadable{
			Path:   l.Version,
			Reason: fmt.Sprintf("its archive for %s %s", d.Rules.Name, why),
			Next:   "keep what is in packed to compare with later, or name an export or archive",
		}
	}
	if errors.Is(err, os.ErrNotExist) {
		return nil, gone("is not in packed any more")
	}
	if err != nil {
		return nil, err
	}
	if sum, err := sumOf(b.Path); b.Source == "zip" && err == nil && l.SHA256 != "" && sum != l.SHA256 {
		b.Close()
		return nil, gone("was packed again since, and is not the one that was sent")
	}
	b.Path = fmt.Sprintf("%s on %s", l.Version, d.Rules.Name)
	return b, nil
}

func sumOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}

// wantedCalls lists the calls that the project's portals want.
func wantedCalls(p *project.Project) []string {
	if p == nil {
		return nil
	}
	var list []string
	for _, d := range p.To {
		for _, h := range d.Rules.Hooks {
			list = append(list, h.Wanted(false)...)
		}
	}
	return list
}
