// Package project reads and writes havvel.toml, the file in which a game says what it is and where
// it goes. Where its export is read is left to export, what a portal asks for to rulebook.
package project

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"havvel/internal/fault"
	"havvel/internal/inwords"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// Name is the project file's name.
const Name = "havvel.toml"

// ErrNone says that there is no project file here or above.
var ErrNone error = fault.New(fault.Usage, "there is no %s here or in a folder above", Name).
	Then("havvel start writes one for the export in this folder")

// A Project is what havvel.toml says.
type Project struct {
	Game Game                    `toml:"game"` // the game
	To   map[string]*Destination `toml:"to"`   // a destination, under a name of your choice
	Pack Pack                    `toml:"pack"` // what pack changes
	// how the entry page looks, where the engine left it bare; what is left out stays as it is
	Front *Front `toml:"front"`
	Trial Trial  `toml:"trial"` // how the game is tried in a real browser
	Proof Proof  `toml:"proof"` // whether what is sent must be proven to run as well as the export
	Hooks Hooks  `toml:"hooks"` // what portals are told of a game that doesn't say it itself
	// a value that the game sends to portals, such as a score; portals make a leaderboard of it
	Statistics   []Statistic `toml:"statistic"`
	Listing      Listing     `toml:"listing"`      // the game's page: its texts and options, written once for all portals
	Declarations *Declared   `toml:"declarations"` // what you declare to portals about a version
	Pictures     []Picture   `toml:"picture"`      // a picture from which those for portals are cut
	Accepts      []Accept    `toml:"accept"`       // a finding that you have decided to live with

	Folder string `toml:"-"` // Folder is the absolute path of the folder that holds the file.

	doc *settings.Document
}

// Game says what the game is.
type Game struct {
	Title  string `toml:"title"`  // the game's title
	Short  string `toml:"short"`  // its name in addresses: small letters, digits and hyphens
	Studio string `toml:"studio"` // who makes it; may be left out
	// the version that the next send uploads; "env:NAME" takes it from an environment variable, as build servers want it; so can export,
	// and address, public and values of a destination
	Version string `toml:"version"`
	Export  string `toml:"export"` // the engine's web export: a folder, a zip or one HTML page, relative to this file
	Entry   string `toml:"entry"`  // the entry page inside the export, if havvel should take another than it finds
}

// A Destination is a named place that versions go to.
type Destination struct {
	// the portal's rulebook: one that ships, or a file ending in .toml, relative to this file; a site has none
	Rulebook string `toml:"rulebook"`
	// where the portal's interface is, if not where its rulebook says; or where a site's files go: sftp://user@host/folder, ftp://,
	// ftps://, davs://, s3+https://host/bucket/folder, or a folder
	Address string `toml:"address"`
	// where the key is: "env:NAME" names an environment variable; if left out, the rulebook's; havvel keys set stores one for when
	// that is not set
	Key   string `toml:"key"`
	Plant *bool  `toml:"plant"` // false if pack must not plant the portal's scripts, since the game brings them itself

	// how WebAssembly and data go there: "plain", "gzip" or "br"; if left out, as the engine wrote them where the portal can serve
	// that
	Encode string `toml:"encode"`

	Public string `toml:"public"` // of a site: the address under which players reach it
	Keep   int    `toml:"keep"`   // of a site: how many versions stay there; default: all
	// of a site: how long a version that was public stays all the same, for players who are in it; default: 24h
	KeepFor  settings.Span `toml:"keep_for"`
	Identity string        `toml:"identity"` // of a site by SFTP: the private key; default: the SSH agent's keys, or your own
	HostKey  string        `toml:"host_key"` // of a site by SFTP: the host's key, as in "SHA256:…"; default: what known_hosts says
	// of a site by SFTP: the mode of its files, as in "640"; folders can be entered by all who may read; default: readable for web servers
	Mode string `toml:"mode"`
	// of a site by ftp://, ftps://, davs:// or s3+https://: the SHA-256 fingerprint of the host's certificate, which no authority need vouch
	// for then; default: none
	Certificate string `toml:"certificate"`
	// of a site by FTP: where the connections for files go; default: the address's own host, whatever address it names
	DataHost string `toml:"data_host"`
	Region   string `toml:"region"` // of an object store: where its bucket is; default: what it says itself
	// of an object store: whether the bucket is part of the host's name, and not of the path
	BucketInHost bool `toml:"bucket_in_host"`
	Lanes        int  `toml:"lanes"` // of a site: the most files that travel at once; default: what the protocol and the line bear
	// of a site: whether to send the password and the files over a network where others can read and change them
	Insecure bool `toml:"insecure"`
	// of a site: precompressed files that its web server sends with Content-Encoding: "gzip", "br"
	Serves []string `toml:"serves"`
	// of a site: the last day on which the page at its address shows the game, as in "2026-12-31" (this machine's time); default: none
	Until     string `toml:"until"`
	Feedback  string `toml:"feedback"`  // of a site: where players can say what they think; a link in the page's corner leads there
	Isolation bool   `toml:"isolation"` // of a site: whether its web server sends cross-origin isolation headers, which threads need

	Listing      *Listing  `toml:"listing"`      // what differs on this portal's page
	Declarations *Declared `toml:"declarations"` // what you declare to this portal alone

	Values map[string]string `toml:"values"` // what the rulebook asks of each destination, such as a release track

	site  *url.URL
	ends  time.Time
	tried bool   // only by rules try
	path  string // in havvel.toml

	Name  string             `toml:"-"` // Name is the destination's name in the project.
	Rules *rulebook.Rulebook `toml:"-"` // Rules is the rulebook that Rulebook names.
}

// Pack says what pack changes, and what it must not.
type Pack struct {
	LeaveOut []string `toml:"leave_out"` // files that stay behind: names, names with stars, or folders with a slash at the end
	// whether files stay behind that nothing is known to load; a game may load some by names that it puts together
	LeaveUnused bool     `toml:"leave_unused"`
	Slim        bool     `toml:"slim"`     // whether pictures, sounds and texts are made smaller without loss
	Smallest    bool     `toml:"smallest"` // archives are made as small as can be, which takes a few times as long, once
	Without     []string `toml:"without"`  // steps that are not taken: entry, leave-out, names, recode, slim, front, plant or stamp
}

// Front says how the entry page looks.
type Front struct {
	Title      string `toml:"title"`      // the page's title; default: game.title
	Icon       string `toml:"icon"`       // the tab's icon: a picture, relative to this file
	Background string `toml:"background"` // the page's colour, as in CSS
	Picture    string `toml:"picture"`    // a picture that is shown while the game loads, relative to this file
	Bar        string `toml:"bar"`        // the colour of a loading bar, as in CSS
	// how the game meets the window: "fit" (whole, with bars), "fill", "fixed" (its own size), "wide" (16:9, with bars) or another
	// ratio such as "4:3"
	Canvas string `toml:"canvas"`
}

// Trial says how the game is tried in a real browser.
type Trial struct {
	// what is done once the game has started, one step a line: wait, press, tap, drag, picture, expect, for (docs/trial.md)
	Steps []string `toml:"steps"`
	// a file of such steps, one a line, in their place; havvel trial --record writes it
	StepsFile string        `toml:"steps_file"`
	Start     settings.Span `toml:"start"`    // the longest time to the first picture; default: 20s
	Watch     settings.Span `toml:"watch"`    // how long the game is watched once it started; default: 3s
	Required  bool          `toml:"required"` // whether send wants a clean trial of the same export
	Browsers  []string      `toml:"browsers"` // in which the build is tried: chromium, firefox, or programs; default: the first there is
}

// Hooks says what is found out while the game runs.
type Hooks struct {
	// events that pack's adapter finds out by itself: loading-done, play-begun, play-stopped
	Infer []string `toml:"infer"`
}

// Proof says what is wanted of proofs.
type Proof struct {
	Required bool `toml:"required"` // whether what can't be proven to run as well as the export is not sent
}

// A Statistic is a value that the game sends to portals.
type Statistic struct {
	Name   string `toml:"name"`   // its name, letter for letter as the game sends it
	Keeps  string `toml:"keeps"`  // which value is kept of each player's: highest, lowest, total or latest
	Label  string `toml:"label"`  // what players read above the leaderboard; default: the name
	Unit   string `toml:"unit"`   // what is counted, as in "lanterns" or "s"
	Hidden bool   `toml:"hidden"` // whether players don't see the leaderboard
	// the least and the most that a player can reach, as in [0, 240]; a trial tells of values that are not between them
	Range []float64 `toml:"range"`
	// a global value of the game, as in "lane.best", or a key of its storage, as in "best", from which pack's adapter reads it where the game
	// sends no event; one of the two
	Global  string `toml:"global"`
	Storage string `toml:"storage"`
}

// An Accept is a finding that the developer has decided to live with.
type Accept struct {
	ID     string `toml:"id"`     // the check's id
	File   string `toml:"file"`   // only in this file; if left out, everywhere
	Reason string `toml:"reason"` // why; shown wherever the finding is
}

// Find reads the project file in folder or the nearest one above it. The error is ErrNone when there
// is none; mistakes in the file are faults with their places, joined.
func Find(folder string) (*Project, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	for at := folder; ; at = filepath.Dir(at) {
		data, err := os.ReadFile(filepath.Join(at, Name))
		if err == nil {
			return parse(at, data)
		}
		if !errors.Is(err, os.ErrNotExist) {
			return nil, fmt.Errorf("reading the project file: %w", err)
		}
		if at == filepath.Dir(at) {
			return nil, ErrNone
		}
	}
}

func parse(folder string, data []byte) (*Project, error) {
	p := &Project{Folder: folder}
	p.doc = settings.Read(filepath.Join(folder, Name), data, p)
	if !p.doc.Broken() {
		if p.fromEnvironment() {
			p.verify()
		}
	}
	if err := p.doc.Err(); err != nil {
		return nil, err
	}
	return p, nil
}

// fromEnvironment fills values that stand in environment variables, and reports whether all are set.
func (p *Project) fromEnvironment() (all bool) {
	all = true
	fill := func(path string, v string) string {
		variable, is := strings.CutPrefix(v, "env:")
		if !is {
			return v
		}
		text := os.Getenv(variable)
		if text == "" {
			all = false
			p.doc.Wrong(path, "is taken from the environment variable %s, which is not set", variable)
			return v
		}
		return text
	}
	p.Game.Version = fill("game.version", p.Game.Version)
	p.Game.Export = fill("game.export", p.Game.Export)
	for name, d := range p.To {
		d.Address, d.Public = fill("to."+name+".address", d.Address), fill("to."+name+".public", d.Public)
		for key, v := range d.Values {
			d.Values[key] = fill("to."+name+".values."+key, v)
		}
	}
	return all
}

var shortName = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

// verify reports every mistake of meaning.
func (p *Project) verify() {
	d := p.doc
	p.Game.verify(d)
	for name, to := range p.To {
		to.Name, to.path = name, "to."+name
		to.resolve(d, p.Folder)
	}
	for i, pattern := range p.Pack.LeaveOut {
		if _, err := path.Match(strings.TrimSuffix(pattern, "/"), ""); err != nil || pattern == "" {
			d.Wrong(fmt.Sprintf("pack.leave_out[%d]", i), "has %q, which is no name, folder or pattern", pattern)
		}
	}
	for i, s := range p.Statistics {
		s.verify(d, fmt.Sprintf("statistic[%d]", i))
	}
	for i, event := range p.Hooks.Infer {
		d.Within(fmt.Sprintf("hooks.infer[%d]", i), event, rulebook.Inferable()...)
	}
	p.verifyListing()
	for i, a := range p.Accepts {
		at := fmt.Sprintf("accept[%d]", i)
		d.Must(at+".id", a.ID)
		if a.Reason == "" {
			d.Wrong(at+".reason", "is missing: say why you accept the finding")
		}
	}
}

func (g *Game) verify(d *settings.Document) {
	d.Must("game.title", g.Title)
	d.Must("game.export", g.Export)
	if d.Must("game.short", g.Short) && !shortName.MatchString(g.Short) {
		d.Wrong("game.short", "is %q; it can have small letters, digits and hyphens between them", g.Short).
			Then("write %q", ShortFrom(g.Short))
	}
	if d.Must("game.version", g.Version) {
		if err := VerifyVersion(g.Version); err != nil {
			d.Wrong("game.version", "is %w", err)
		}
	}
}

func (s *Statistic) verify(d *settings.Document, at string) {
	d.Must(at+".name", s.Name)
	if d.Must(at+".keeps", s.Keeps) {
		d.Within(at+".keeps", s.Keeps, "highest", "lowest", "total", "latest")
	}
	if s.Global != "" && s.Storage != "" {
		d.Wrong(at+".storage", "is there beside global; a value comes from one of the two")
	}
	if s.Global != "" && !globalName.MatchString(s.Global) {
		d.Wrong(at+".global", "is no name such as lane.best")
	}
}

var globalName = regexp.MustCompile(`^[A-Za-z_$][\w$]*(\.[A-Za-z_$][\w$]*)*$`)

var versionName = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z._+-]{0,63}$`)

// VerifyVersion returns an error unless v can name a version: it becomes part of file names and addresses.
func VerifyVersion(v string) error {
	if !versionName.MatchString(v) {
		return fmt.Errorf("%q, which can't name a version; use letters, digits, dots and hyphens, as in 0.4.0", v)
	}
	return nil
}

// Destinations returns those named, or all in alphabetical order when none is named.
func (p *Project) Destinations(names []string) ([]*Destination, error) {
	all := slices.Sorted(maps.Keys(p.To))
	if len(names) == 0 {
		names = all
	}
	var list []*Destination
	for _, name := range names {
		d, ok := p.To[name]
		if !ok {
			return nil, p.noDestination(name, all)
		}
		if !slices.Contains(list, d) {
			list = append(list, d)
		}
	}
	return list, nil
}

func (p *Project) noDestination(name string, all []string) error {
	f := p.Problem("to", "there is no destination %q", name)
	if near := settings.Nearest(name, all); near != "" {
		return f.Then("did you mean %q?", near)
	} else if len(all) > 0 {
		return f.Then("%s", inwords.There(all))
	}
	return f.Then("add one:\n\n  [to.%s]\n  rulebook = %q", name, rulebook.Names()[0])
}

// CacheFolder is where a project keeps what can be worked out again.
func (p *Project) CacheFolder() string { return filepath.Join(p.Folder, ".havvel", "cache") }

// ExportPath is the absolute path of the export.
func (p *Project) ExportPath() string {
	if filepath.IsAbs(p.Game.Export) {
		return p.Game.Export
	}
	return filepath.Join(p.Folder, filepath.FromSlash(p.Game.Export))
}
