package app

import (
	"time"

	"havvel/internal/deliver"
	"havvel/internal/deliver/portal"
	"havvel/internal/deliver/site"
	"havvel/internal/pack"
	"havvel/internal/progress"
	"havvel/internal/project"
)

// A Desk is where versions go out: the project's destinations, and how a use case is to deal with them.
type Desk struct {
	Project      *project.Project
	Destinations []*project.Destination
	Courier      *deliver.Courier
	Report       progress.Reporter
	DryRun       bool        // say what would be done, and do nothing
	Tell         func(Event) // hears what happens, as it happens

	Trace portal.Trace // hears the requests of a dry run that tells them

	// Password asks for the password of a page; needed by Restrict alone.
	Password func(d *project.Destination) (string, error)
}

// Deliveries are what a use case has come to at its destinations. As JSON they are its document.
type Deliveries struct {
	List []Delivery `json:"deliveries"`
	Next []string   `json:"-"` // what can be done now: commands, or words
}

// A Delivery is one version at one destination, as programs read it.
type Delivery struct {
	Destination string        `json:"destination"`
	Version     string        `json:"version"`
	State       string        `json:"state"`
	Link        string        `json:"link"`
	Reasons     []string      `json:"reasons"`
	Fingerprint string        `json:"fingerprint"`
	Sent        string        `json:"sent"`
	Proof       string        `json:"proof"` // whether it was proven, and what came of it; "" for not
	Live        *deliver.Live `json:"live,omitempty"`
	Lacks       []string      `json:"page_lacks,omitempty"`
	Note        string        `json:"note,omitempty"`     // what the state doesn't say
	Would       string        `json:"would_be,omitempty"` // of a dry run: the state that it would have

	Status *deliver.Status `json:"-"`
	News   bool            `json:"-"` // its state may have changed
}

// Told is a delivery as programs read it.
func Told(s *deliver.Status) Delivery {
	d := Delivery{
		Destination: s.Destination, Version: s.Version, State: s.State, Link: s.Link(), Reasons: append([]string{}, s.Reasons...),
		Fingerprint: s.Fingerprint, Proof: s.Proof, Note: s.Note, Would: s.Would, Status: s, News: true,
	}
	if !s.Sent.IsZero() {
		d.Sent = s.Sent.UTC().Format(time.RFC3339)
	}
	return d
}

func newDeliveries() *Deliveries { return &Deliveries{List: []Delivery{}} }

func (r *Deliveries) add(s *deliver.Status) {
	if s != nil {
		r.List = append(r.List, Told(s))
	}
}

// then adds what can be done next, once.
func (r *Deliveries) then(next string) {
	for _, n := range r.Next {
		if n == next {
			return
		}
	}
	if next != "" {
		r.Next = append(r.Next, next)
	}
}

// statuses are those of all deliveries.
func (r *Deliveries) statuses() []*deliver.Status {
	var list []*deliver.Status
	for _, d := range r.List {
		list = append(list, d.Status)
	}
	return list
}

// An Event is something that happens in a use case, which people want to hear of then.
type Event interface{ event() }

// The events.
type (
	// Has says that a destination has a version of this export already, or has it public already.
	Has struct {
		At      *project.Destination
		Version string
		Public  bool
	}
	// WouldSend says what would be sent.
	WouldSend struct {
		At      *project.Destination
		Version string
		Path    string // of the archive
		Files   int
	}
	// Packs says that precompressed files are packed for a destination.
	Packs struct{ At *project.Destination }
	// Proved says whether what a destination gets runs as well as the export.
	Proved struct {
		At    *project.Destination
		Proof *Proof
	}
	// Loses says what players lose by what comes next.
	Loses struct{ Says string }
	// Sent says that a version has arrived.
	Sent struct {
		At      *project.Destination
		Archive *pack.Archive
		Status  *deliver.Status
		Stand   site.Stand // on a site
		Seen    bool       // a run showed that its page can stand at the site's address
	}
	// PageOf says that the page of a version is filled in now.
	PageOf struct {
		At      *project.Destination
		Version string
	}
	// Page says which parts of a page have changed; with Would, which would be sent.
	Page struct {
		Changed []string
		Would   bool
	}
	// Permanent says what can't be undone of what is done next; Inner within what is said of a destination.
	Permanent struct {
		Says  string
		Inner bool
	}
	// Waits says that a destination's decision is waited for.
	Waits struct {
		At    *project.Destination
		Limit time.Duration
	}
	// Follows says which of several destinations is looked at.
	Follows struct{ At *project.Destination }
	// State says what state a delivery is in.
	State struct{ Status *deliver.Status }
	// Would says which state a version would have.
	Would struct {
		At      *project.Destination
		Status  *deliver.Status
		Instead string // the version that is public now
		Locked  bool   // shown to those who have a password
	}
	// Became says which state a version has now.
	Became struct {
		At      *project.Destination
		Status  *deliver.Status
		Instead string
		Locked  bool
	}
	// WouldDo says what a portal would be asked for beside the usual.
	WouldDo struct {
		At     *project.Destination
		Status *deliver.Status
		What   deliver.Ability
	}
	// Did says what a portal was asked for beside the usual.
	Did WouldDo
	// Looked says what players get; Err why that could not be seen.
	Looked struct {
		At   *project.Destination
		Live *deliver.Live
		Err  error
	}
	// Standing says where all deliveries stand, and what pages lack.
	Standing struct {
		Destinations []*project.Destination
		Statuses     []*deliver.Status
		Lacks        map[string][]string
	}
)

func (Has) event()       {}
func (WouldSend) event() {}
func (Packs) event()     {}
func (Proved) event()    {}
func (Sent) event()      {}
func (Loses) event()     {}
func (PageOf) event()    {}
func (Page) event()      {}
func (Permanent) event() {}
func (Waits) event()     {}
func (Follows) event()   {}
func (State) event()     {}
func (Would) event()     {}
func (Became) event()    {}
func (WouldDo) event()   {}
func (Did) event()       {}
func (Looked) event()    {}
func (Standing) event()  {}
