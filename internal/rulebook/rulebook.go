// Package rulebook reads what one portal asks for and how it is talked to. A rulebook is a TOML file
// that anyone can write; those that ship are in the folder ship. Running a recipe is left to
// deliver/portal, judging a build by a rulebook to check.
package rulebook

import (
	"embed"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/settings"
)

// Format is the version of the rulebook format that this package reads.
const Format = "havvel-rulebook/2"

// A Rulebook says what one portal accepts and how to talk to it.
type Rulebook struct {
	Format  string            `toml:"format"`  // always "havvel-rulebook/2"
	Needs   string            `toml:"needs"`   // the oldest havvel that knows all that the rulebook uses, such as "1.4.0"
	Name    string            `toml:"name"`    // the portal's name, as people say it
	About   string            `toml:"about"`   // one sentence on what kind of portal it is
	Address string            `toml:"address"` // where the portal's interface is; a destination may name another
	Archive Archive           `toml:"archive"` // what is handed over
	Serves  Serves            `toml:"serves"`  // how the portal serves a build's files
	Limits  Limits            `toml:"limits"`  // what a build may cost a player
	Allow   []string          `toml:"allow"`   // other hosts that a game may load from; one with a port allows only that
	Rounds  bool              `toml:"rounds"`  // whether it is a playtest host, on which havvel round opens rounds
	Levels  map[string]string `toml:"levels"`  // a check's id = the level it has here: error, warning or note
	Frame   Frame             `toml:"frame"`   // the frame that the game runs in
	Views   []View            `toml:"view"`    // one window that players see the game in
	Hooks   []Hook            `toml:"hook"`    // one script that the portal wants in the entry page
	PageRules
	Interface
	Recipes
}

// PageRules say what the game's page on the portal has.
type PageRules struct {
	Page         Page          `toml:"page"`         // how the portal's page of a game is arranged; for the preview
	Fields       []Field       `toml:"field"`        // one field of the game's page
	Pictures     []Picture     `toml:"picture"`      // one kind of picture on the game's page
	Leaderboards *Leaderboards `toml:"leaderboards"` // the leaderboards that it makes of statistics; left out, it has none
	Declarations []Declaration `toml:"declaration"`  // one thing that the developer has to declare
	Finals       []Final       `toml:"final"`        // one thing that the portal can't undo; it is said before it happens
}

// Archive says what is handed over.
type Archive struct {
	// "zip": one zip with the entry page at its root; "entry-apart": the entry page, and a zip of the rest; "one-page": everything
	// in one HTML page; "folder": a folder of files
	HandOver  string        `toml:"hand_over"`
	Limit     settings.Size `toml:"limit"`      // the largest archive
	FileLimit settings.Size `toml:"file_limit"` // the largest single file, unpacked
	Files     int           `toml:"files"`      // the most files
	// which file names it takes: "any" (default) or "plain": letters without accents, digits, hyphens, underscores and dots
	Names string `toml:"names"`
}

// Serves says how the portal's host serves a build.
type Serves struct {
	Isolation bool     `toml:"isolation"` // whether it sends cross-origin isolation headers, which threads need
	CORS      bool     `toml:"cors"`      // whether pages of every origin may read the game's files, also a sandboxed frame's
	Encodings []string `toml:"encodings"` // precompressed files it serves with Content-Encoding: "gzip", "br"
}

// Limits say what a build may cost a player.
type Limits struct {
	Start settings.Size `toml:"start"` // the most that is downloaded before the game can start
}

// Frame says what the frame allows that the game runs in.
type Frame struct {
	// what the frame's sandbox allows, in the words of HTML, such as "allow-scripts"; left out, there is no sandbox
	Sandbox []string `toml:"sandbox"`
	// features of the browser that the frame may use, in the words of the Permissions Policy, such as "autoplay"
	Allow []string `toml:"allow"`
}

// A View is one window that players see the game in.
type View struct {
	Name  string `toml:"name"`  // what the portal calls it
	Size  [2]int `toml:"size"`  // width and height in CSS pixels
	Touch bool   `toml:"touch"` // whether it is touched, as on a phone, which also has two pixels of the screen for each
	// what players have there, or lack: cheap-phone, no-storage, dark, little-motion, other-language, no-webgl, no-webgpu, context-lost,
	// goes-offline, portal-blocked, portal-rejects, portal-slow, no-break, signed-out (docs/trial.md)
	Conditions []string `toml:"conditions"`
}

// A Hook is a script that the portal wants in the entry page, and the calls that it wants to hear.
type Hook struct {
	Name   string `toml:"name"`   // what to call it in output
	Script string `toml:"script"` // the script's address, as the page must name it
	// where it belongs: "head-start" (before every other script), "head-end" or "body-end"
	Place      string            `toml:"place"`
	Attributes map[string]string `toml:"attributes"` // more attributes of the script element
	Required   bool              `toml:"required"`   // whether the portal refuses a build without it
	Plant      bool              `toml:"plant"`      // whether havvel pack may plant it when it is absent
	Why        string            `toml:"why"`        // what it is for, said to the developer
	Start      *Start            `toml:"start"`      // a call that must come first
	Calls      []Call            `toml:"call"`       // one call that the portal wants to hear from the game
}

// Start is a call that comes before all others.
type Start struct {
	Call      string `toml:"call"`      // dotted name of a function, such as "Portal.begin"
	Arguments []any  `toml:"arguments"` // what it is given; {game.short}, {game.title} and {version} are replaced
	Gives     bool   `toml:"gives"`     // whether it gives, or promises, the object on which calls named "started.…" are made
}

// A Call is one call that the portal wants to hear.
type Call struct {
	// dotted name of a function on a global, such as "Portal.ready", or of one on what the start call gave, such as "started.ready"
	Call string `toml:"call"`
	// when it belongs: loading-begun, loading-done, play-begun, play-stopped, level-begun, level-ended, break-wanted, reward-wanted,
	// statistic, save or load
	Event     string `toml:"event"`
	Arguments []any  `toml:"arguments"` // what it is given; a text such as "{name}" is replaced by that detail of the event
	// "at-once", "promise" or "callback" (the last function that it is given), when the game waits for what it gives; left out, when it
	// gives nothing
	Answers  string   `toml:"answers"`
	Take     string   `toml:"take"`     // which field of the answer tells the game; left out, the answer itself
	Example  any      `toml:"example"`  // what a stand-in answers
	Without  any      `toml:"without"`  // likewise, where the portal has no break, or the player is not signed in; left out, nothing
	Required bool     `toml:"required"` // whether a game must make it
	After    []string `toml:"after"`    // events that must have come before
}

// events are those that a game can send, in the order in which they come.
func events() []string {
	return []string{
		"loading-begun",
		"loading-done",
		"play-begun",
		"level-begun",
		"statistic",
		"level-ended",
		"play-stopped",
		"break-wanted",
		"reward-wanted",
		"save",
		"load",
	}
}

// Wanted lists the names of all calls, or only of those that a game must make.
func (h Hook) Wanted(required bool) []string {
	var names []string
	for _, c := range h.Calls {
		if c.Required || !required {
			names = append(names, c.Call)
		}
	}
	return names
}

// At lists the calls that belong to an event.
func (h Hook) At(event string) []Call {
	var list []Call
	for _, c := range h.Calls {
		if c.Event == event {
			list = append(list, c)
		}
	}
	return list
}

//go:embed ship
var shipped embed.FS

//go:embed schema.json
var schema []byte

// Schema is the JSON Schema (2020-12) of rulebooks, made from the types of this package.
func Schema() []byte { return schema }

// Names lists the rulebooks that ship, in alphabetical order.
func Names() []string {
	entries, err := shipped.ReadDir("ship")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	var names []string
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".toml"))
	}
	return names
}

// Source returns a rulebook that ships as it is written.
func Source(name string) ([]byte, error) {
	if !slices.Contains(Names(), name) {
		return nil, unknownName(name)
	}
	return shipped.ReadFile(path.Join("ship", name+".toml"))
}

func unknownName(name string) error {
	f := fault.New(fault.Usage, "no rulebook %q ships with Havvel", name)
	if near := settings.Nearest(name, Names()); near != "" {
		return f.Then("did you mean %q? For your own, name its file, ending in .toml; a folder begins with ./", near)
	}
	return f.Then("%s. For your own, name its file, ending in .toml; a folder begins with ./", inwords.There(Names()))
}

// Find returns the rulebook of that name: one that ships, or, when the name ends in .toml, a file,
// relative to folder. Mistakes in it are faults with their places, joined.
func Find(name, folder string) (*Rulebook, error) {
	if !strings.HasSuffix(name, ".toml") {
		data, err := Source(name)
		if err != nil {
			return nil, err
		}
		return Parse("rulebook "+name, data)
	}
	file := name
	if !filepath.IsAbs(file) {
		file = filepath.Join(folder, file)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fault.New(fault.Usage, "reading the rulebook: %w", err)
	}
	return Parse(file, data)
}

// Parse reads a rulebook and checks that its parts fit together. file is the name for errors.
func Parse(file string, data []byte) (*Rulebook, error) {
	var r Rulebook
	d := settings.Read(file, data, &r)
	if err := r.tooNew(d); err != nil {
		return nil, err
	}
	r.compile()
	if !d.Broken() {
		r.verify(d)
	}
	if err := d.Err(); err != nil {
		return nil, err
	}
	return &r, nil
}
