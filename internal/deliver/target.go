package deliver

import (
	"context"
	"time"

	"havvel/internal/deliver/portal"
	"havvel/internal/deliver/site"
	"havvel/internal/logbook"
	"havvel/internal/project"
)

// An Ability is something that a destination may be able to do. It is the name of the recipe that a portal has for it.
type Ability string

// The abilities.
const (
	Send     Ability = "send"     // take a version
	Follow   Ability = "follow"   // say what state a version is in
	Publish  Ability = "publish"  // make a version public on request
	Back     Ability = "back"     // make an earlier version public again
	Withdraw Ability = "withdraw" // take the public version offline
	List     Ability = "list"     // say which versions it has
	Restrict Ability = "restrict" // show a version to those with a password
	Fill     Ability = "fill"     // have a page around the game filled in
	Compare  Ability = "compare"  // have each file that players get compared with what was sent
	Headers  Ability = "headers"  // set headers for builds by itself
	Submit   Ability = "submit"   // review a version on request
	Recall   Ability = "recall"   // give it back from there
	Schedule Ability = "schedule" // make a version public at a time
	Stage    Ability = "stage"    // show a version to a share of the players
	Testers  Ability = "testers"  // show a version to those in a list
	Replace  Ability = "replace"  // take other files for a version that was sent
)

// A Target is a destination as its kind delivers to it.
type Target interface {
	// Can reports whether it can do something. What it can't is an error of No.
	Can(Ability) bool
	// No says why it can't do something.
	No(Ability) error
	// Send uploads a parcel. The receipt is what has to be known of it later.
	Send(context.Context, Parcel) (Receipt, error)
	// Ask says what state a delivery is in. With a wait, it asks until that is decided, for that long at most.
	Ask(ctx context.Context, l *logbook.Delivery, wait time.Duration) (*portal.Answer, error)
	// Release makes a delivery public: one that was sent, by Publish, or one that was public before, by Back. Where it was looked at what
	// players get, that is seen; it may be nil.
	Release(ctx context.Context, l *logbook.Delivery, by Ability) (answer *portal.Answer, seen *Live, err error)
	// Withdraw takes a delivery offline.
	Withdraw(ctx context.Context, l *logbook.Delivery) (*portal.Answer, error)
	// Do does something else with a delivery; detail is what it needs for that: the password, the time, the share, the list.
	Do(ctx context.Context, l *logbook.Delivery, what Ability, detail any) (*portal.Answer, error)
	// List says which versions the destination has.
	List(context.Context) ([]Known, error)
	// Look fetches what players get of a public delivery.
	Look(ctx context.Context, l *logbook.Delivery) (*Live, error)
}

// A Receipt is what is known after an upload.
type Receipt struct {
	Answer *portal.Answer
	Values logbook.Values // that later commands need; no secret is among them
	Took   site.Sent
	Done   func() // is called once the delivery is written down; nil for nothing
}

// kinds of destinations, the first that fits.
var kinds = []struct {
	fits func(*project.Destination) bool
	make func(*Courier, *project.Destination) Target
}{
	{
		func(d *project.Destination) bool { return d.SiteAddress() != nil },
		func(c *Courier, d *project.Destination) Target { return &siteTarget{Courier: c, to: d} },
	},
	{func(*project.Destination) bool { return true }, func(c *Courier, d *project.Destination) Target { return &portalTarget{c, d} }},
}

// Target is what a destination is to the courier.
func (c *Courier) Target(d *project.Destination) Target {
	for _, k := range kinds {
		if k.fits(d) {
			return k.make(c, d)
		}
	}
	panic("the last kind fits all")
}

// Can reports whether a destination can do something.
func Can(d *project.Destination, what Ability) bool { return (&Courier{}).Target(d).Can(what) }

// No says why a destination can't do something.
func No(d *project.Destination, what Ability) error { return (&Courier{}).Target(d).No(what) }
