package trial

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"havvel/internal/browser"
	"havvel/internal/fault"
	"havvel/internal/finding"
	"havvel/internal/hooks"
	"havvel/internal/inwords"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// A condition is what some players have, or lack. What it does to scripts stands in the probe, what it does to a portal in its stand-in.
type condition struct {
	window func(*browser.Window)
	after  func(*viewer, context.Context) error // what happens once the game has started and the steps are done
	portal bool                                 // it is the portal's
}

// conditions are all of rulebook.Conditions.
func conditions() map[string]condition {
	return map[string]condition{
		"cheap-phone": {window: func(w *browser.Window) {
			w.Touch, w.Scale, w.Slower, w.Line, w.Delay = true, 3, 4, 400_000, 150*time.Millisecond
		}},
		"no-storage":     {},
		"dark":           {window: func(w *browser.Window) { w.Dark = true }},
		"little-motion":  {window: func(w *browser.Window) { w.Still = true }},
		"other-language": {window: func(w *browser.Window) { w.Language = "de-DE" }},
		"no-webgl":       {},
		"no-webgpu":      {},
		"context-lost":   {after: (*viewer).lose},
		"goes-offline":   {after: func(r *viewer, ctx context.Context) error { return r.tab.Offline(ctx, true) }},
		"portal-blocked": {portal: true},
		"portal-rejects": {portal: true},
		"portal-slow":    {portal: true},
		"no-break":       {portal: true},
		"signed-out":     {portal: true},
	}
}

// NoCondition says that there is no condition of a name.
type NoCondition struct{ Name string }

func (e *NoCondition) Error() string {
	if near := settings.Nearest(e.Name, rulebook.Conditions()); near != "" {
		return fmt.Sprintf("there is no condition %q; did you mean %s?", e.Name, near)
	}
	return fmt.Sprintf("there is no condition %q; %s", e.Name, inwords.There(rulebook.Conditions()))
}

// Fault tells it.
func (e *NoCondition) Fault() *fault.Error { return fault.Tell(e, fault.Usage, "") }

// under are the views that are added to those of a destination: the first of them under each of some conditions.
func under(views []rulebook.View, names []string) ([]rulebook.View, error) {
	var list []rulebook.View
	for _, name := range names {
		if !slices.Contains(rulebook.Conditions(), name) {
			return nil, &NoCondition{name}
		}
		v := views[0]
		if name == "cheap-phone" {
			if i := slices.IndexFunc(views, func(v rulebook.View) bool { return v.Touch }); i >= 0 {
				v = views[i]
			}
		}
		v.Name, v.Conditions = v.Name+", "+name, append(slices.Clone(v.Conditions), name)
		list = append(list, v)
	}
	return list, nil
}

// window is how the view's window is, for a game at an address.
func (r *viewer) window(game string) browser.Window {
	names := r.view.Conditions
	if names == nil {
		names = []string{}
	}
	list, err := json.Marshal(names)
	if err != nil {
		panic(err) // they are texts
	}
	w := browser.Window{
		Width: r.view.Size[0], Height: r.view.Size[1], Scale: r.scale, Touch: r.view.Touch,
		Probe: strings.TrimSpace(probe) + "(" + string(list) + ");",
	}
	if w.Touch {
		w.Scale = 2
	}
	mood := ""
	for _, name := range names {
		c := conditions()[name]
		if c.window != nil {
			c.window(&w)
		}
		if c.portal {
			mood = name
		}
	}
	if r.trial.Rules == nil || game == "" {
		return w
	}
	base, err := url.Parse(game)
	if err != nil {
		return w
	}
	for _, h := range r.trial.Rules.Hooks {
		if address, err := base.Parse(h.Script); err == nil {
			address.RawQuery, address.Fragment = "", ""
			w.Answers = append(w.Answers, browser.Answer{
				Address: address.String(), Type: "text/javascript; charset=utf-8", Body: hooks.StandIn(h, mood), Refuse: mood == "portal-blocked",
			})
		}
	}
	return w
}

// under reports whether a view is under a condition.
func (v *View) under(name string) bool { return slices.Contains(v.Conditions, name) }

// afterwards lets happen what the view's conditions want to happen to a running game.
func (r *viewer) afterwards(ctx context.Context) error {
	for _, name := range r.view.Conditions {
		if c := conditions()[name]; c.after != nil {
			if err := c.after(r, ctx); err != nil {
				return err
			}
			r.pause(ctx, r.trial.Watch)
		}
	}
	return ctx.Err()
}

// lose takes the drawing context away from the game once, gives it back, and looks whether it draws again.
func (r *viewer) lose(ctx context.Context) error {
	lost := 0
	if err := r.tab.Evaluate(ctx, r.watch.frame(), "havvelLose()", &lost); err != nil || lost == 0 {
		return err // a game without WebGL has nothing to lose
	}
	r.pause(ctx, 3*time.Second)
	p, err := r.picture(ctx, "after the drawing context was lost and came back")
	if err != nil {
		return err
	}
	if !look(p).visible() {
		r.problem("trial-lost", "the drawing context was lost once and came back, and the picture stays empty",
			"handle webglcontextlost (prevent its default) and webglcontextrestored, and make textures and buffers anew")
	}
	return nil
}

// unset notes what the browser could not set of the view's conditions.
func (r *viewer) unset() {
	r.seen.Cannot = r.tab.Cannot()
	var list []string
	for _, what := range r.seen.Cannot {
		if strings.HasPrefix(what, "a ") {
			list = append(list, what)
		}
	}
	if len(list) > 0 {
		r.seen.Problems = append(r.seen.Problems, finding.Finding{
			ID: "trial-unset", Message: "this browser can't be given " + strings.Join(list, " or ") + ", so that was not tried",
			Fix: "try it in Chromium: --browser chromium",
		})
	}
}
