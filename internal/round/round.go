// Package round is about playtests: what a round is opened with, what comes back of it, and what that means. Where rounds are played
// and kept is left to playhost.
package round

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

// Format is the version of the lines in which a round's events are exported.
const Format = 1

// An Opening is what a round is opened with.
type Opening struct {
	Build     string        `json:"build"`
	Seconds   int64         `json:"seconds"` // that it stays open
	Most      int           `json:"most"`    // testers; 0 for any number
	Password  string        `json:"password"`
	Record    bool          `json:"record"` // ask testers for a clip
	Keep      int64         `json:"keep"`   // seconds after its end for which what came back is kept; 0 for as long as the host keeps it
	Questions []Question    `json:"questions"`
	Controls  []Control     `json:"controls"`
	Webhook   string        `json:"webhook,omitempty"` // an address that is told of the first error and of the last tester
	Studio    string        `json:"studio,omitempty"`  // who asks
	Contact   string        `json:"contact,omitempty"` // how to reach them
	Texts     []Translation `json:"texts,omitempty"`   // what testers read, in other languages than English
	Invited   []string      `json:"invited,omitempty"` // names of those who alone may play; each gets a link
}

// An Invitation is a link for one tester.
type Invitation struct {
	Name     string `json:"name"`
	Link     string `json:"link"`
	Opened   int    `json:"opened"` // how often its page was opened
	Played   bool   `json:"played"` // and shared
	Answered bool   `json:"answered"`
}

// A Notice is what a round's webhook is told.
type Notice struct {
	Round   string `json:"round"` // its id
	What    string `json:"what"`  // "error" (the game met its first error) or "full" (the last tester has come)
	Testers int    `json:"testers"`
}

// A Control is one thing that players do, and how, as testers read it.
type Control struct {
	Action  string `json:"action"`
	Keys    string `json:"keys"`
	Mouse   string `json:"mouse"`
	Touch   string `json:"touch"`
	Gamepad string `json:"gamepad"`
}

// Opened is a round that was opened.
type Opened struct {
	ID    string    `json:"id"`
	Link  string    `json:"link"`
	Until time.Time `json:"until"`
	Kept  time.Time `json:"kept_until"` // when all that came back is deleted

	Invitations []Invitation `json:"invitations,omitempty"`
}

// A Round is one as its owner sees it.
type Round struct {
	ID        string     `json:"id"`
	Version   string     `json:"version"`
	Link      string     `json:"link"`
	Open      bool       `json:"open"`
	Opened    time.Time  `json:"opened"`
	Until     time.Time  `json:"until"`
	Kept      time.Time  `json:"kept_until"`
	Opens     int        `json:"opens"`    // how often its page was opened, by whomever
	Sessions  int        `json:"sessions"` // of testers
	Simulated int        `json:"simulated"`
	Paused    bool       `json:"paused"`
	Questions []Question `json:"questions"`
}

// A Question is one that testers are asked.
type Question struct {
	Ask     string   `toml:"ask" json:"ask"`         // the question
	Kind    string   `toml:"kind" json:"kind"`       // scale (1 to 5), choice or text
	Choices []string `toml:"choices" json:"choices"` // of a choice
}

// Verify says what is wrong with a question.
func (q Question) Verify() error {
	switch {
	case q.Ask == "" || len(q.Ask) > 300:
		return fmt.Errorf("a question has up to 300 characters under ask")
	case q.Kind != "scale" && q.Kind != "choice" && q.Kind != "text":
		return fmt.Errorf("kind of %q is %q; it can be scale, choice or text", q.Ask, q.Kind)
	case q.Kind == "choice" && (len(q.Choices) < 2 || len(q.Choices) > 12):
		return fmt.Errorf("%q needs 2 to 12 choices", q.Ask)
	}
	return nil
}

// A Line is one line of what came back: a session, or one event of the session before.
type Line struct {
	Format    int             `json:"round,omitempty"`
	Session   string          `json:"session"`
	Opened    *time.Time      `json:"opened,omitempty"`
	Device    json.RawMessage `json:"device,omitempty"`
	Simulated bool            `json:"simulated,omitempty"`
	Clip      int64           `json:"clip,omitempty"` // bytes of its clip
	Cut       int             `json:"cut,omitempty"`  // events that there was no room for
	N         int             `json:"n,omitempty"`
	At        int64           `json:"at,omitempty"` // milliseconds after the session began
	Kind      string          `json:"kind,omitempty"`
	Data      json.RawMessage `json:"data,omitempty"`
}

// A Device is what is known of where somebody plays; never an address, nor anything that could identify them.
type Device struct {
	Width  int     `json:"width"` // of the window, CSS pixels
	Height int     `json:"height"`
	Ratio  float64 `json:"ratio"`
	Touch  bool    `json:"touch"`
	Memory float64 `json:"memory"` // GB, as the browser rounds it; 0 when it doesn't say

	Browser string `json:"browser,omitempty"` // its name and main version
	System  string `json:"system,omitempty"`
	GPU     string `json:"gpu,omitempty"` // the graphics chip, as the browser names it
}

// Class is the kind of device.
func (d Device) Class() string {
	switch {
	case d.Touch && min(d.Width, d.Height) < 600:
		return "phone"
	case d.Touch:
		return "tablet"
	}
	return "desktop"
}

// Short is the device with names of a length that can be shown; a program may send any.
func (d Device) Short() Device {
	for _, name := range []*string{&d.Browser, &d.System, &d.GPU} {
		if r := []rune(strings.ToValidUTF8(*name, "\uFFFD")); len(r) > mostName {
			*name = string(r[:mostName])
		}
	}
	return d
}

const mostName = 80 // characters

// Words names a machine: its kind, and what is known of its browser and system.
func (d Device) Words() string {
	list := []string{d.Class()}
	for _, word := range []string{d.Browser, d.System, d.GPU} {
		if word != "" {
			list = append(list, word)
		}
	}
	return strings.Join(list, ", ")
}

// Classes are the kinds of device, in the order in which they are shown.
var Classes = []string{"desktop", "tablet", "phone"}
