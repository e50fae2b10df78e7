package app

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"havvel/internal/check"
	"havvel/internal/compare"
	"havvel/internal/deliver"
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
	courier *deliver.Courier // likewise
	to      []string         // destinations; none for all
	entry   string
	report  progress.Reporter
}

// Compare says what changed between two builds. names are up to two paths or versions that were sent; left out, the first is the version
// that was sent last, and the second what would be packed of the project's export. entry names another entry page than Havvel finds. A
// version whose archive is not here any more is fetched from the site that keeps it, by the courier. Both are nil where there is no
// project.
func Compare(
	ctx context.Context, p *project.Project, courier *deliver.Courier, names, to []string, entry string, report progress.Reporter,
) (*compare.Result, error) {
	c := &comparing{p, courier, to, entry, report}
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
			s.Accepts = accepts(p)
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
		err = enter(c.project, b, c.entry, true)
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

// sent is the archive of a version that was sent, the last one when none is named. Sites are asked for one that the logbook doesn't name.
func (c *comparing) sent(ctx context.Context, version string) (*export.Build, *project.Destination, error) {
	d, l, err := c.delivery(version)
	if err == nil && l == nil {
		if err = c.adopt(ctx); err == nil {
			d, l, err = c.delivery(version)
		}
	}
	if err != nil {
		return nil, nil, err
	}
	if l != nil {
		b, err := c.archiveOf(ctx, d, l)
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

// delivery is the last one of a version in the logbook; nil where it names none.
func (c *comparing) delivery(version string) (*project.Destination, *logbook.Delivery, error) {
	all, _, err := logbook.Open(c.project.Folder).Deliveries()
	if err != nil {
		return nil, nil, err
	}
	for _, l := range slices.Backward(all) {
		if d := c.project.To[l.Destination]; d != nil && (version == "" || l.Version == version) && c.asked(d) {
			return d, l, nil
		}
	}
	return nil, nil, nil
}

func (c *comparing) asked(d *project.Destination) bool {
	return len(c.to) == 0 || slices.Contains(c.to, d.Name)
}

// adopt has the logbook know what the project's sites hold.
func (c *comparing) adopt(ctx context.Context) error {
	all, err := c.project.Destinations(nil)
	if err != nil {
		return err
	}
	for _, d := range all {
		if !c.asked(d) {
			continue
		}
		if err := c.courier.Adopt(ctx, d); err != nil {
			return err
		}
	}
	return nil
}

// archiveOf reads the archive of a delivery, if it is still the one that was sent, or what a site holds of it.
func (c *comparing) archiveOf(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*export.Build, error) {
	b, why, err := packedArchive(ctx, c.project, d, l)
	if err != nil {
		return nil, err
	}
	if why != "" && c.courier.Keeps(d) {
		b, err = c.fetched(ctx, d, l)
		if err != nil {
			return nil, fmt.Errorf("the archive of %s for %s %s, and it can't be fetched: %w", l.Version, d.Rules.Name, why, err)
		}
		why = ""
	}
	if why != "" {
		return nil, &export.Unreadable{
			Path:   l.Version,
			Reason: fmt.Sprintf("its archive for %s %s", d.Rules.Name, why),
			Next:   "keep what is in packed to compare with later, or name an export or archive",
		}
	}
	b.Path = fmt.Sprintf("%s on %s", l.Version, d.Rules.Name)
	return b, nil
}

// packedArchive is the archive of a delivery in packed, or why it isn't there.
func packedArchive(ctx context.Context, p *project.Project, d *project.Destination, l *logbook.Delivery) (*export.Build, string, error) {
	b, err := pack.Read(ctx, ArchivePath(p, d, "", l.Version))
	if errors.Is(err, os.ErrNotExist) {
		return nil, "is not in packed any more", nil
	}
	if err != nil {
		return nil, "", err
	}
	if sum, err := sumOf(b); err == nil && l.SHA256 != "" && sum != l.SHA256 {
		b.Close()
		return nil, "was packed again since, and is not the one that was sent", nil
	}
	return b, "", nil
}

// fetched is what a site holds of a delivery. It is kept until another one is fetched to the same place.
func (c *comparing) fetched(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*export.Build, error) {
	folder := filepath.Join(c.project.CacheFolder(), "fetched", d.Name+"-"+l.Version)
	if err := c.courier.Download(ctx, d, l, folder); err != nil {
		return nil, err
	}
	return export.Read(ctx, folder)
}

// sumOf is the SHA-256 of an archive as the logbook has it; "" for one that is handed over in two parts.
func sumOf(b *export.Build) (string, error) {
	switch b.Source {
	case "folder":
		return pack.SumOf(b), nil
	case "zip":
		return sumOfFile(b.Path)
	}
	return "", errors.New("it has more than one part")
}

func sumOfFile(path string) (string, error) {
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
