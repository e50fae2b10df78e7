package check

import (
	"fmt"
	"time"

	"havvel/internal/finding"
)

// A Sent is a version that went to the destination before.
type Sent struct {
	Version, Fingerprint, State string
	At                          time.Time
}

// A Source is the newest file of the project outside the export.
type Source struct {
	Path    string
	Changed time.Time
}

var freshChecks = []*Check{
	{
		ID:    "fresh-same",
		Title: "This very export was sent before",
		Level: finding.Note,
		Text: "The destination has this export already, byte for byte. Most often the game was changed, but not exported again, or another " +
			"folder was " +
			"exported to. havvel send refuses to send the same export twice without --again.",
		Before: "an export that is the one of version 0.4.0",
		After:  "the game exported again after the change",
		Run: func(p *Pass) {
			for i := len(p.Sent) - 1; i >= 0; i-- {
				if s := p.Sent[i]; s.Fingerprint == p.Build.Fingerprint {
					p.report(
						finding.Finding{
							Message: fmt.Sprintf(
								"this very export was sent as version %s on %s (state: %s)",
								s.Version,
								s.At.Local().Format("2 January 15:04"),
								s.State,
							),
							Fix: "export the game again if it was changed since",
						},
					)
					return
				}
			}
		},
	},
	{
		ID:    "fresh-version",
		Title: "The version was not raised",
		Level: finding.Warning,
		Text: "Another export was sent under this version. Two builds of one name can't be told apart in reports and in the logbook. Raise " +
			"the version in " +
			"havvel.toml before each send.",
		Before: `version = "0.4.0", which was sent last week`,
		After:  `version = "0.4.1"`,
		Run: func(p *Pass) {
			for _, s := range p.Sent {
				if s.Fingerprint == p.Build.Fingerprint {
					return
				}
			}
			for _, s := range p.Sent {
				if s.Version == p.Version && s.State != "refused" {
					p.report(
						finding.Finding{
							Message: fmt.Sprintf("version %s was sent on %s, from another export", s.Version, s.At.Local().Format("2 January 15:04")),
							Fix:     "raise the version in havvel.toml",
						},
					)
					return
				}
			}
		},
	},
	{
		ID:    "fresh-old",
		Title: "The project was changed after the export",
		Level: finding.Note,
		Text: "A file of the project is newer than every file of the export, so what is sent may not be what was last worked on. Export " +
			"again before sending, " +
			"unless the change does not concern the game.",
		Before: "a script changed this morning, an export of yesterday",
		After:  "an export of after the change",
		Run: func(p *Pass) {
			if newest := p.Build.Newest(); p.Newest.Path != "" && !newest.IsZero() && p.Newest.Changed.Sub(newest) > time.Minute {
				p.report(
					finding.Finding{
						Message: fmt.Sprintf(
							"%s was changed on %s, after the last file of the export (%s)",
							p.Newest.Path,
							p.Newest.Changed.Local().Format("2 January 15:04"),
							newest.Local().Format("2 January 15:04"),
						),
						Fix: "export the game again if the change concerns it",
					},
				)
			}
		},
	},
	{
		ID:    "fresh-untried",
		Title: "There is no clean trial of this export",
		Level: finding.Error,
		Text: "havvel.toml says that an export is sent only after a clean trial (required under [trial]), and there is none of this one. A " +
			"trial runs the " +
			"game in a real browser and takes less than a minute.",
		Before: "an export of just now, and the last trial of yesterday",
		After:  "havvel trial, without errors",
		Run: func(p *Pass) {
			if p.Untried != "" {
				p.report(finding.Finding{Message: "havvel.toml wants a clean trial of this export, and " + p.Untried, Fix: "run havvel trial"})
			}
		},
	},
}
