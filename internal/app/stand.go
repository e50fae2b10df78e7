package app

import (
	"context"
	"slices"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/root"
	"havvel/internal/export"
	"havvel/internal/pack"
	"havvel/internal/pictures"
	"havvel/internal/progress"
	"havvel/internal/project"
	"havvel/internal/serve"
)

// Front is the page at a site's root for what a plan hands over, as a proof runs it; nil where the destination has none, or the page can't
// stand there.
func Front(ctx context.Context, d *project.Destination, plan *pack.Plan) (*serve.Front, error) {
	b := plan.Result()
	if d.SiteAddress() == nil || root.Unfit(b) != "" {
		return nil, nil
	}
	entry, err := b.Entry.ReadAll(ctx, root.Largest)
	if err != nil {
		return nil, err
	}
	const folder = "current"
	page, err := root.Page(entry, root.About{Folder: folder})
	if err != nil {
		return nil, err
	}
	return &serve.Front{Page: page, Under: "versions/" + folder + "/", Index: []byte(`{"current":"` + folder + `"}`)}, nil
}

// standOf says whether the page of what is sent to a site can be the page at its root. A run decides, where there was one.
func standOf(b *export.Build, seen *Proof) site.Stand {
	s := site.Stand{Why: root.Unfit(b), Worker: root.Registers(b)}
	if seen != nil && seen.Lower != "" {
		s.Why = "run at the site's address, it wasn't seen to be as good as the export: " + seen.Lower
	}
	s.Root = s.Why == ""
	return s
}

// preview is the file of the picture that those show who show a preview of a site's link; "" where the project has no cover.
func preview(ctx context.Context, p *project.Project, d *project.Destination, report progress.Reporter) (string, error) {
	if d.SiteAddress() == nil || !slices.ContainsFunc(p.Pictures, func(m project.Picture) bool { return slices.Contains(m.Roles, "cover") }) {
		return "", nil
	}
	orders, err := pictures.Make(ctx, p, []*project.Destination{d}, report)
	if err != nil || len(orders[0].Cuts) == 0 {
		return "", err
	}
	return orders[0].Cuts[0].Path, nil
}
