package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"
	"havvel/internal/project"
	"havvel/internal/round"
	"havvel/internal/round/page"
)

// pageOf writes the page of a report, where one is asked for, and returns the link under which the host shows it; "" where it doesn't.
func (a *console) pageOf(
	ctx context.Context, client *round.Client, p *project.Project, r *round.Round, back *gathered, earlier *round.Round,
	changes []round.Change, f reportFlags,
) (link string, err error) {
	if f.page == "" && !f.share {
		return "", nil
	}
	x, err := a.drawPage(ctx, client, p, r, back, earlier, changes)
	if err == nil && f.page != "" {
		err = atomicfile.File(f.page, func(f disk.File) error { return page.Write(f, x) })
	}
	if err != nil || !f.share {
		return "", err
	}
	var text bytes.Buffer
	if err := page.Write(&text, x); err != nil {
		return "", err
	}
	return client.Share(ctx, r.ID, text.Bytes())
}

func (a *console) drawPage(
	ctx context.Context, client *round.Client, p *project.Project, r *round.Round, back *gathered, earlier *round.Round,
	changes []round.Change,
) (*page.Page, error) {
	x := &page.Page{
		Title: p.Game.Title, Version: r.Version, Round: r.ID, Opened: r.Opened, Until: r.Until, Questions: r.Questions,
		Opens: r.Opens, Report: back.report, Plays: back.plays, More: back.more, Clips: map[string][]byte{}, Changes: changes,
	}
	if earlier != nil {
		x.Against = fmt.Sprintf("%s, the round of %s", earlier.Version, earlier.Opened.Local().Format("2 January"))
	}
	left := int64(page.MostClips)
	for _, play := range back.plays {
		switch {
		case play.Clip == 0:
			continue
		case play.Clip > left:
			x.LeftOut++
			continue
		}
		var clip bytes.Buffer
		err := client.Clip(ctx, r.ID, play.ID, &clip)
		if no := (*round.Refused)(nil); errors.As(err, &no) && no.Status == 404 {
			continue // taken back meanwhile
		}
		if err != nil {
			return nil, err
		}
		left -= int64(clip.Len())
		x.Clips[play.ID] = clip.Bytes()
	}
	return x, nil
}
