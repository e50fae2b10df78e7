package app

import (
	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// Toward returns the version to make public again at a destination: the one named, or with "" the one that was public before. now is the
// public one, which may be nil, or the version itself. The error says why there is none, and what to do instead.
func Toward(courier *deliver.Courier, d *project.Destination, version string) (now, to *logbook.Delivery, err error) {
	now, to, err = courier.Earlier(d, version)
	switch {
	case err != nil || to != nil:
		return now, to, err
	case version != "":
		return now, nil, fault.New(fault.No, "version %s was never sent to %s", version, d.Name).Then("havvel logbook --to %s lists those "+
			"that were", d.Name)
	case now != nil:
		return now, nil, fault.New(fault.No, "%s is public on %s, and nothing was public before it", now.Version, d.Name).
			Then("havvel back --off takes it offline, so that nothing is public there; havvel logbook lists what was sent")
	}
	if _, err := Last(courier, d); err != nil {
		return nil, nil, err
	}
	return nil, nil, fault.New(fault.No, "nothing is public on %s, and nothing was replaced there", d.Name).
		Then("havvel logbook --to %s lists what was sent; havvel publish makes the last version public, havvel back VERSION another", d.Name)
}

// Permanent lists what can't be undone once the game is public at a destination for the first time; nothing when it was public before.
func Permanent(courier *deliver.Courier, d *project.Destination) (list []string) {
	all, _, err := courier.Book.Deliveries()
	if err != nil {
		return nil // said when it is needed
	}
	for _, l := range all {
		if l.Destination == d.Name && (l.State == rulebook.Public || l.State == rulebook.Replaced || l.State == rulebook.Withdrawn) {
			return nil
		}
	}
	for _, f := range d.Rules.Finals {
		if f.What == "short" {
			list = append(list, f.Says+" ("+courier.Project.Game.Short+")")
		}
	}
	return list
}
