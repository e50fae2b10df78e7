package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"havvel/internal/check"
	"havvel/internal/cli/term"
	"havvel/internal/export"
	"havvel/internal/pack"
	"havvel/internal/project"
	"havvel/internal/settings"
)

func (a *app) pack() *cobra.Command {
	var folder, ver string
	c := a.new(command{
		use:   "pack [EXPORT]",
		short: "Write the archives that the destinations want",
		long: "Pack writes an archive for each destination: entry page at the root, no folder around it, junk left out, the portal's\n" +
			"script planted. It never changes the export; the same export gives the same bytes. The archive is read back and\n" +
			"checked before it gets its name.",
		example: "  havvel pack\n  havvel pack --to brackwater --out archives",
		args:    cobra.MaximumNArgs(1),
		run: func(ctx context.Context, args []string) error {
			return a.runPack(ctx, args, folder, ver)
		},
	})
	c.Flags().StringVarP(&folder, "out", "o", "", "`folder` for the archives (packed, beside havvel.toml)")
	c.Flags().StringVar(&ver, "version", "", "`version` in the archive's name (the one in havvel.toml)")
	a.withTo(c)
	a.withJSON(c)
	a.withDryRun(c, "say what the archives would hold, and write nothing")
	return c
}

type packJSON struct {
	Archives []archiveRow `json:"archives"`
}

type archiveRow struct {
	Destination string      `json:"destination"`
	Path        string      `json:"path"`
	Bytes       int64       `json:"bytes"`
	SHA256      string      `json:"sha256"`
	Entries     int         `json:"entries"`
	Steps       []pack.Step `json:"steps"`
}

func (a *app) runPack(ctx context.Context, args []string, folder, ver string) error {
	p, destinations, err := a.destinations()
	if err != nil {
		return err
	}
	if ver, err = chosenVersion(p, ver); err != nil {
		return err
	}
	_, b, err := a.subject(ctx, args, anew)
	if err != nil {
		return err
	}
	defer b.Close()
	doc := packJSON{Archives: []archiveRow{}}
	for _, d := range destinations {
		if err := a.forbidden(p, d, b); err != nil {
			return err
		}
		plan, err := pack.New(ctx, b, packFor(p, d))
		if err != nil {
			return err
		}
		path := archivePath(p, d, folder, ver)
		r := archiveRow{Destination: d.Name, Path: path, Entries: len(plan.Items), Steps: plan.Steps}
		if !a.dryRun {
			archive, err := plan.Write(ctx, path, a.screen.Progress())
			if err != nil {
				return err
			}
			r.Bytes, r.SHA256 = archive.Bytes, archive.SHA256
		}
		doc.Archives = append(doc.Archives, r)
		if !a.json {
			a.showPacked(d, b, r)
		}
	}
	if a.json {
		return a.screen.JSON(doc)
	}
	if a.dryRun {
		a.screen.Next("havvel pack  (writes what is said above)")
	} else {
		a.screen.Next("havvel send")
	}
	return nil
}

// chosenVersion is the version on the command line, or the project's.
func chosenVersion(p *project.Project, ver string) (string, error) {
	if ver == "" {
		return p.Game.Version, nil
	}
	if err := project.VerifyVersion(ver); err != nil {
		return "", &usage{"--version: " + err.Error(), "havvel send"}
	}
	return ver, nil
}

func archivePath(p *project.Project, d *project.Destination, folder, ver string) string {
	if folder == "" {
		folder = filepath.Join(p.Folder, "packed")
	}
	return term.Near(filepath.Join(folder, d.Name+"-"+ver+".zip"))
}

func packFor(p *project.Project, d *project.Destination) pack.For {
	return pack.For{Destination: d.Name, Rules: d.Rules, Plants: d.Plants(), Accepts: accepts(p)}
}

// forbidden checks a build for a destination. When there are errors it prints them, and returns an error.
func (a *app) forbidden(p *project.Project, d *project.Destination, b *export.Build) error {
	s := subject(p, d, b)
	findings := check.Run(s)
	if check.Errors(findings) == 0 {
		return nil
	}
	if a.json {
		return &pack.Faulty{Findings: findings}
	}
	var errs []check.Finding
	for _, f := range findings {
		if f.Level == check.Error {
			errs = append(errs, f)
		}
	}
	a.showFindings(b, []check.Subject{s}, errs, len(check.Catalogue()))
	a.screen.Next("mend the errors, export again, and run havvel check")
	return &silent{answerNo}
}

func (a *app) showPacked(d *project.Destination, b *export.Build, r archiveRow) {
	s := a.screen
	if a.dryRun {
		s.Line("%s  %s", s.In(term.Strong, r.Path), s.In(term.Quiet, fmt.Sprintf("for %s, %s; not written", d.Rules.Name, files(r.Entries))))
	} else {
		limit := ""
		if d.Rules.Archive.Limit > 0 {
			limit = fmt.Sprintf(" of %s allowed", d.Rules.Archive.Limit)
		}
		s.Line("%s  %s", s.In(term.Strong, r.Path), s.In(term.Quiet, fmt.Sprintf("for %s, %s, %s%s", d.Rules.Name, files(r.Entries), settings.Size(r.Bytes), limit)))
	}
	for _, step := range r.Steps {
		s.Paragraph(term.Plain, "  "+step.Name+": ", "    ", term.Clean(step.What))
	}
	if len(r.Steps) == 0 {
		s.Line("  the files of %s as they are", b.Path)
	}
	if !a.dryRun {
		s.Line("  read back and checked: %s", s.In(term.Good, "whole, no errors"))
	}
	s.Line("")
}

// exists reports whether there is a file of that name.
func exists(path string) bool {
	_, err := os.Lstat(path)
	return !errors.Is(err, os.ErrNotExist)
}
