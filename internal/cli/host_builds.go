package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"havvel/internal/inwords"
	"havvel/internal/playhost"
	"havvel/internal/settings"
)

func (a *console) hostBuilds(f *hostFlags) *cobra.Command {
	c := a.new(command{
		use: "builds", short: "List what a host keeps", args: cobra.NoArgs,
		long: "Builds lists the builds that owners sent to the host, the last first, with the bytes of their files. Files that several builds " +
			"share are kept\nonce.",
		example: "  havvel host builds --data /srv/shed\n  havvel host builds --json",
		run: func(ctx context.Context, _ []string) error {
			return opened(f, func(h *playhost.Host) error { return a.listBuilds(ctx, h) })
		},
	})
	c.AddCommand(a.buildsRemove(f))
	return c
}

func (a *console) listBuilds(ctx context.Context, h *playhost.Host) error {
	list, err := h.Builds(ctx)
	if err != nil {
		return err
	}
	a.answer(map[string]any{"builds": list})
	if len(list) == 0 {
		a.screen.Line("nothing was sent to this host yet")
		return nil
	}
	var rows [][]string
	for _, b := range list {
		state := b.State
		if b.Rounds > 0 {
			state += ", " + inwords.Of(b.Rounds, "1 open round", fmt.Sprintf("%d open rounds", b.Rounds))
		}
		rows = append(rows, []string{
			b.ID[:min(8, len(b.ID))], b.Owner, inwords.Clean(b.Game), inwords.Clean(b.Version), settings.Size(b.Bytes).String(),
			b.Made.Local().Format("2 Jan 2006"), state,
		})
	}
	a.screen.Table([]string{"build", "owner", "game", "version", "files", "sent", "state"}, rows, 4)
	return nil
}

func (a *console) buildsRemove(f *hostFlags) *cobra.Command {
	return a.new(command{
		use: "remove BUILD", short: "Take a build's files away", args: cobra.ExactArgs(1),
		long: "Remove takes the files of the build whose id begins so away, so that nobody plays it any more. Files that another build shares " +
			"stay. What came\nback of its rounds stays, too. One that is played in an open round isn't removed.",
		example: "  havvel host builds remove 4kq2m7 --data /srv/shed\n  havvel host builds remove 4kq2m7 --data /srv/shed --json",
		run: func(ctx context.Context, args []string) error {
			return opened(f, func(h *playhost.Host) error { return a.removeBuild(ctx, h, args[0]) })
		},
	})
}

func (a *console) removeBuild(ctx context.Context, h *playhost.Host, begins string) error {
	list, err := h.Builds(ctx)
	if err != nil {
		return err
	}
	found, err := oneBuild(list, begins)
	if err != nil {
		return err
	}
	if err := h.RemoveBuild(ctx, found.ID); errors.Is(err, playhost.ErrNoSuchBuild) {
		return wrong("havvel host builds remove", "the build %q is %s", begins, found.State)
	} else if err != nil {
		return wrong("havvel host builds remove", "%w", err)
	}
	a.answer(map[string]string{"id": found.ID})
	a.screen.Line("version %s of %s is gone from this host", inwords.Clean(found.Version), inwords.Clean(found.Game))
	return nil
}

// oneBuild is the build whose id begins so.
func oneBuild(list []playhost.KeptBuild, begins string) (*playhost.KeptBuild, error) {
	var found *playhost.KeptBuild
	for i := range list {
		if !strings.HasPrefix(list[i].ID, begins) {
			continue
		}
		if found != nil {
			return nil, wrong("havvel host builds remove", "several builds begin with %q; name more of the id", begins)
		}
		found = &list[i]
	}
	if found == nil {
		return nil, wrong("havvel host builds remove", "there is no build %q; havvel host builds lists them", begins)
	}
	return found, nil
}
