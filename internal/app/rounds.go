package app

import (
	"context"
	"fmt"
	"os"
	"strings"

	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/round"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// PlaytestHost is the one among destinations that opens rounds, and what speaks to it.
func PlaytestHost(destinations []*project.Destination) (*project.Destination, *round.Client, error) {
	var hosts []*project.Destination
	for _, d := range destinations {
		if d.Rules.Rounds {
			hosts = append(hosts, d)
		}
	}
	switch {
	case len(hosts) == 0:
		return nil, nil, fault.New(fault.Usage, "none of these destinations is a playtest host").
			Then("havvel host runs one, and says what to write into %s", project.Name)
	case len(hosts) > 1:
		return nil, nil, fault.New(fault.Usage, "there are %d playtest hosts", len(hosts)).Then("name one with --to")
	}
	key, err := hosts[0].Secret()
	return hosts[0], &round.Client{Address: hosts[0].Address, Token: key}, err
}

// ToPlay is the delivery of a version to a host, or the last one.
func ToPlay(courier *deliver.Courier, d *project.Destination, version string) (*logbook.Delivery, error) {
	all, _, err := courier.Book.Deliveries()
	if err != nil {
		return nil, err
	}
	for i := len(all) - 1; i >= 0; i-- {
		if l := all[i]; l.Destination == d.Name && l.State != rulebook.Refused && (version == "" || l.Version == version) {
			return l, nil
		}
	}
	what := "nothing"
	if version != "" {
		what = "no version " + version
	}
	return nil, fault.New(fault.No, "%s was sent to %s yet", what, d.Name).Then("havvel send --to %s sends this version", d.Name)
}

// Controls are those of the listing, as testers read them.
func Controls(l *project.Listing) []round.Control {
	var list []round.Control
	for _, c := range l.Controls {
		list = append(list, round.Control{Action: c.Action, Keys: strings.Join(c.Keys, ", "), Mouse: c.Mouse, Touch: c.Touch, Gamepad: c.Gamepad})
	}
	return list
}

// Questions reads the questions for after a playtest from a TOML file; none for "".
func Questions(file string) ([]round.Question, error) {
	if file == "" {
		return nil, nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fault.New(fault.Usage, "--questions: %w", err)
	}
	var in struct {
		Questions []round.Question `toml:"question"`
	}
	d := settings.Read(file, data, &in)
	for i, q := range in.Questions {
		d.Add(fmt.Sprintf("question[%d]", i), q.Verify())
	}
	return in.Questions, d.Err()
}

// Translations reads what testers read, in other languages, from a TOML file each.
func Translations(files []string) (list []round.Translation, err error) {
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, fault.New(fault.Usage, "--texts: %w", err)
		}
		var t round.Translation
		d := settings.Read(file, data, &t)
		d.Add("language", t.Verify())
		if err := d.Err(); err != nil {
			return nil, err
		}
		list = append(list, t)
	}
	return list, nil
}

// Invited reads the names of testers from a file, one on each line; none for "".
func Invited(file string) (names []string, err error) {
	if file == "" {
		return nil, nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fault.New(fault.Usage, "--invite: %w", err)
	}
	for line := range strings.Lines(strings.ToValidUTF8(string(data), "\uFFFD")) {
		if name := strings.TrimSpace(strings.TrimPrefix(line, "\uFEFF")); name != "" && !strings.HasPrefix(name, "#") {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil, fault.New(fault.Usage, "--invite: there is no name in %s; write one on each line", file)
	}
	return names, nil
}

// ChosenRound is the round whose id begins so, or the last one.
func ChosenRound(ctx context.Context, client *round.Client, p *project.Project, args []string) (*round.Round, error) {
	list, err := client.List(ctx, p.Game.Short)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if len(args) == 0 || strings.HasPrefix(list[i].ID, args[0]) {
			return &list[i], nil
		}
	}
	if len(args) == 0 {
		return nil, fault.New(fault.No, "there was no round of this game yet").Then("havvel round open opens one")
	}
	return nil, fault.New(fault.Usage, "there is no round %q", args[0]).Then("havvel round list shows which there are")
}
