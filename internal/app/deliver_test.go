package app

import (
	"strings"
	"testing"
	"time"

	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// lane is a project with a portal that publishes on request, one that does so by itself, and one that can't be followed.
func lane(t *testing.T) *project.Project {
	steps := []rulebook.Step{{Step: "one"}}
	return &project.Project{To: map[string]*project.Destination{
		"quillmarsh": {Name: "quillmarsh", Rules: &rulebook.Rulebook{Name: "Quillmarsh",
			Recipes: rulebook.Recipes{Send: steps, Follow: steps, Publish: steps}}},
		"osierfold":  {Name: "osierfold", Rules: &rulebook.Rulebook{Name: "Osierfold", Recipes: rulebook.Recipes{Send: steps, Follow: steps}}},
		"brackwater": {Name: "brackwater", Rules: &rulebook.Rulebook{Name: "Brackwater", Recipes: rulebook.Recipes{Send: steps}}},
	}}
}

func status(destination, state string) *deliver.Status {
	return &deliver.Status{Delivery: &logbook.Delivery{Line: logbook.Line{Destination: destination, Version: "0.4.0", State: state}}}
}

// TestNext: what comes next is what brings a version closest to players, at the destinations where it can be done.
func TestNext(t *testing.T) {
	p := lane(t)
	for want, shown := range map[string][]*deliver.Status{
		"havvel send": nil,
		"havvel publish --to quillmarsh  (makes it public": {status("quillmarsh", "draft"), status("osierfold", "in review"),
			status("brackwater", "sent")},
		"havvel where --wait --to osierfold":  {status("osierfold", "in review"), status("brackwater", "sent")},
		"havvel where --share --to osierfold": {status("osierfold", "draft")},
		"look at your page on Brackwater;":    {status("brackwater", "sent")},
		"fix what is named above":             {status("quillmarsh", "refused")},
	} {
		if got := Next(p, shown); !strings.HasPrefix(got, want) {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if got := Next(p, []*deliver.Status{status("quillmarsh", "public")}); got != "" {
		t.Errorf("after all is public: %q", got)
	}
}

// TestDecided: only what can still be decided is waited for, and what was not decided in time is not called lost.
func TestDecided(t *testing.T) {
	p := lane(t)
	for name, c := range map[string]struct {
		to, state string
		kind      fault.Kind
		says      string
		fine      bool
	}{
		"verifying":          {"quillmarsh", "verifying", fault.Unreachable, "has not decided", false},
		"refused":            {"quillmarsh", "refused", fault.No, "", false},
		"a draft":            {"quillmarsh", "draft", 0, "", true},
		"cannot be followed": {"brackwater", "sent", 0, "", true},
	} {
		err := decided(p.To[c.to], status(c.to, c.state), time.Minute)
		if c.fine != (err == nil) || err != nil && (fault.Of(err).Kind != c.kind || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v", name, err)
		}
		if err := publishable(p.To[c.to], status(c.to, c.state)); (err == nil) != (c.state == "draft") {
			t.Errorf("%s is publishable: %v", name, err)
		}
	}
}
