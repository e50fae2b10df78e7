package app

import (
	"slices"

	"havvel/internal/deliver"
	"havvel/internal/logbook"
)

// A History is what a logbook says; as JSON it is the document of havvel logbook.
type History struct {
	Deliveries []Past `json:"deliveries"`
	Unread     int    `json:"unread"` // lines that can't be read
}

// A Past is one delivery, and its states.
type Past struct {
	Delivery
	By     string `json:"by"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
	States []Was  `json:"states"`
}

// Was is a state that a delivery came into.
type Was struct {
	State string `json:"state"`
	At    string `json:"at"` // local time, to the minute
}

// HistoryOf reads a logbook, the last delivery first: of some destinations, or with nil of all, and of one version, or with "" of all.
func HistoryOf(book *logbook.Book, destinations []string, version string) (*History, error) {
	all, unread, err := book.Deliveries()
	if err != nil {
		return nil, err
	}
	lines, _, err := book.Lines()
	if err != nil {
		return nil, err
	}
	out := &History{[]Past{}, unread}
	for _, l := range slices.Backward(all) {
		if len(destinations) > 0 && !slices.Contains(destinations, l.Destination) || version != "" && l.Version != version {
			continue
		}
		past := Past{Delivery: Told(&deliver.Status{Delivery: l}), By: l.By, Bytes: l.Bytes, SHA256: l.SHA256, States: []Was{}}
		for _, line := range lines {
			if line.ID == l.ID {
				past.States = append(past.States, Was{line.State, line.At.Local().Format("2006-01-02 15:04")})
			}
		}
		out.Deliveries = append(out.Deliveries, past)
	}
	return out, nil
}
