// Package project reads and writes havvel.toml, the file in which a game says what it is and where
// it goes. Where its export is read is left to export, what a portal asks for to rulebook.
package project

import (
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"havvel/internal/keys"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// Name is the project file's name.
const Name = "havvel.toml"

// ErrNone says that there is no project file here or above.
var ErrNone = errors.New("there is no " + Name + " here or in a folder above")

// A Project is what havvel.toml says.
type Project struct {
	Game       Game                    `toml:"game" doc:"the game"`
	To         map[string]*Destination `toml:"to" doc:"a destination, under a name of your choice"`
	Pack       Pack                    `toml:"pack" doc:"what pack changes"`
	Front      *Front                  `toml:"front" doc:"how the entry page looks, where the engine left it bare; what is left out stays as it is"`
	Trial      Trial                   `toml:"trial" doc:"how the game is tried in a real browser"`
	Statistics []Statistic             `toml:"statistic" doc:"a value that the game sends to portals, such as a score; portals make a board of it"`
	Listing    Listing                 `toml:"listing" doc:"the game's page: its texts and options, written once for all portals"`
	Declares   *Statement              `toml:"declares" doc:"what you state to portals about a version"`
	Pictures   []Picture               `toml:"picture" doc:"a picture from which those for portals are cut"`
	Accepts    []Accept                `toml:"accept" doc:"a finding that you have decided to live with"`

	// Folder is the absolute path of the folder that holds the file.
	Folder string `toml:"-"`
}

// Game says what the game is.
type Game struct {
	Title   string `toml:"title" doc:"the game's title"`
	Short   string `toml:"short" doc:"its name in addresses: small letters, digits and hyphens"`
	Studio  string `toml:"studio" doc:"who makes it; may be left out"`
	Version string `toml:"version" doc:"the version that the next send uploads"`
	Export  string `toml:"export" doc:"the engine's web export: a folder, a zip or one HTML page, relative to this file"`
	Entry   string `toml:"entry" doc:"the entry page inside the export, if havvel should take another than it finds"`
}

// A Destination is a named place that versions go to.
type Destination struct {
	Rulebook string `toml:"rulebook" doc:"the portal's rulebook: one that ships, or a file ending in .toml, relative to this file; a site has none"`
	Address  string `toml:"address" doc:"where the portal's interface is, if not where its rulebook says; or where a site's files go: sftp://user@host/folder, ftp://, ftps://, davs://, s3+https://host/bucket/folder, or a folder"`
	Key      string `toml:"key" doc:"where the key is: \"env:NAME\" names an environment variable; if left out, the rulebook's; havvel keys set stores one for when that is not set"`
	Plant    *bool  `toml:"plant" doc:"false if pack must not plant the portal's scripts, since the game brings them itself"`

	Encode string `toml:"encode" doc:"how WebAssembly and data go there: \"plain\", \"gzip\" or \"br\"; if left out, as the engine wrote them where the portal can serve that"`

	Public    string   `toml:"public" doc:"of a site: the address under which players reach it"`
	Keep      int      `toml:"keep" doc:"of a site: how many versions stay there; all unless said"`
	Identity  string   `toml:"identity" doc:"of a site by SFTP: the key file that lets us in, if not the agent or the user's own"`
	Serves    []string `toml:"serves" doc:"of a site: precompressed files that its web server sends with Content-Encoding: \"gzip\", \"br\""`
	Isolation bool     `toml:"isolation" doc:"of a site: whether its web server sends cross-origin isolation headers, which threads need"`

	Listing  *Listing   `toml:"listing" doc:"what its page says otherwise than those of the other portals"`
	Declares *Statement `toml:"declares" doc:"what you state to this portal alone"`

	site  *url.URL
	tried bool // only by rules try

	// Name is the destination's name in the project.
	Name string `toml:"-"`
	// Rules is the rulebook that Rulebook names.
	Rules *rulebook.Rulebook `toml:"-"`
}

// Pack says what pack changes, and what it must not.
type Pack struct {
	LeaveOut    []string `toml:"leave_out" doc:"files that stay behind: names, names with stars, or folders with a slash at the end"`
	LeaveUnused bool     `toml:"leave_unused" doc:"whether files stay behind that nothing is known to load; a game may load some by names that it puts together"`
	Slim        bool     `toml:"slim" doc:"whether pictures, sounds and texts are made smaller without loss"`
	Smallest    bool     `toml:"smallest" doc:"archives are made as small as can be, which takes a few times as long, once"`
	Without     []string `toml:"without" doc:"steps that are not taken: entry, leave-out, names, recode, slim, front, plant or stamp"`
}

// Front says how the entry page looks.
type Front struct {
	Title      string `toml:"title" doc:"the page's title; game.title unless said"`
	Icon       string `toml:"icon" doc:"the tab's icon: a picture, relative to this file"`
	Background string `toml:"background" doc:"the page's colour, as in CSS"`
	Picture    string `toml:"picture" doc:"a picture that is shown while the game loads, relative to this file"`
	Bar        string `toml:"bar" doc:"the colour of a loading bar, as in CSS"`
	Canvas     string `toml:"canvas" doc:"how the game meets the window: \"fit\" (whole, with bars), \"fill\", \"fixed\" (its own size), \"wide\" (16:9, with bars) or another ratio such as \"4:3\""`
}

// Trial says how the game is tried in a real browser.
type Trial struct {
	Steps    []string      `toml:"steps" doc:"what is done once the game has started, one step a line: wait, press, tap, drag, picture, expect, for (docs/trial.md)"`
	Start    settings.Span `toml:"start" doc:"the longest time to the first picture; 20s unless said"`
	Watch    settings.Span `toml:"watch" doc:"how long the game is watched once it started; 3s unless said"`
	Required bool          `toml:"required" doc:"whether send wants a clean trial of the same export"`
}

// A Statistic is a value that the game sends to portals.
type Statistic struct {
	Name   string `toml:"name" doc:"its name, letter for letter as the game sends it"`
	Keeps  string `toml:"keeps" doc:"which value is kept of each player's: highest, lowest, total or latest"`
	Label  string `toml:"label" doc:"what players read above the board; the name unless said"`
	Unit   string `toml:"unit" doc:"what is counted, as in \"lanterns\" or \"s\""`
	Hidden bool   `toml:"hidden" doc:"whether players don't see the board"`
}

// An Accept is a finding that the developer has decided to live with.
type Accept struct {
	ID     string `toml:"id" doc:"the check's id"`
	File   string `toml:"file" doc:"only in this file; if left out, everywhere"`
	Reason string `toml:"reason" doc:"why; shown wherever the finding is"`
}

// Find reads the project file in folder or the nearest one above it. The error is ErrNone when there
// is none, and a *settings.Problem when there is something wrong in it.
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
	file := filepath.Join(folder, Name)
	if err := settings.Read(file, data, p); err != nil {
		return nil, err
	}
	err := p.verify()
	var inRulebook *settings.Problem
	if errors.As(err, &inRulebook) {
		return nil, inRulebook
	}
	if err != nil {
		return nil, &settings.Problem{File: file, Message: err.Error()}
	}
	return p, nil
}

var shortName = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

func (p *Project) verify() error {
	for _, must := range []struct{ key, value string }{
		{"title", p.Game.Title}, {"short", p.Game.Short}, {"version", p.Game.Version}, {"export", p.Game.Export},
	} {
		if must.value == "" {
			return fmt.Errorf("game.%s is missing", must.key)
		}
	}
	if !shortName.MatchString(p.Game.Short) {
		return fmt.Errorf("game.short is %q; it can have small letters, digits and hyphens between them", p.Game.Short)
	}
	if err := VerifyVersion(p.Game.Version); err != nil {
		return fmt.Errorf("game.version: %w", err)
	}
	for name, d := range p.To {
		d.Name = name
		if err := d.resolve(p.Folder); err != nil {
			return fmt.Errorf("to.%s: %w", name, err)
		}
	}
	for _, pattern := range p.Pack.LeaveOut {
		if _, err := path.Match(strings.TrimSuffix(pattern, "/"), ""); err != nil || pattern == "" {
			return fmt.Errorf("pack.leave_out names %q, which is no name, folder or pattern", pattern)
		}
	}
	for _, s := range p.Statistics {
		if s.Name == "" {
			return errors.New("a statistic has no name")
		}
		if err := settings.Within("keeps of statistic "+s.Name, s.Keeps, "highest", "lowest", "total", "latest"); err != nil {
			return err
		}
	}
	if err := p.verifyListing(); err != nil {
		return err
	}
	for i, a := range p.Accepts {
		if a.ID == "" || a.Reason == "" {
			return fmt.Errorf("accept number %d needs an id and a reason", i+1)
		}
	}
	return nil
}

var versionName = regexp.MustCompile(`^[0-9A-Za-z][0-9A-Za-z._+-]{0,63}$`)

// VerifyVersion returns an error unless v can name a version: it becomes part of file names and addresses.
func VerifyVersion(v string) error {
	if !versionName.MatchString(v) {
		return fmt.Errorf("%q can't name a version; use letters, digits, dots and hyphens, as in 0.4.0", v)
	}
	return nil
}

func (d *Destination) resolve(folder string) error {
	if is, err := d.resolveSite(folder); is || err != nil {
		if err == nil {
			err = d.verifyKey()
		}
		return err
	}
	if scheme, _, ok := strings.Cut(d.Address, "://"); d.Rulebook == "" && ok {
		return fmt.Errorf("address begins with %s://, which is no way to reach a site (%s); a portal wants a rulebook", scheme, sites())
	}
	if d.Rulebook == "" {
		return fmt.Errorf("rulebook is missing (havvel ships: %s); a site has none, but an address: %s", strings.Join(rulebook.Names(), ", "), sites())
	}
	rules, err := rulebook.Find(d.Rulebook, folder)
	if err != nil {
		return err
	}
	d.Rules = rules
	if d.Address == "" {
		d.Address = rules.Address
	}
	d.Address = strings.TrimRight(d.Address, "/")
	if err := d.verifyEncode(); err != nil {
		return err
	}
	if err := verifyAddress(d.Address); err != nil {
		return err
	}
	if d.Key == "" {
		d.Key = keyOf(d.Name, rules)
	}
	return d.verifyKey()
}

// keyOf says where the key of a portal is that havvel.toml says nothing of; "" for a portal that wants none.
func keyOf(name string, r *rulebook.Rulebook) string {
	switch {
	case r.Key.Variable != "":
		return "env:" + r.Key.Variable
	case r.WantsKey():
		return usualKey(name)
	}
	return ""
}

func usualKey(name string) string {
	return "env:" + strings.ToUpper(strings.ReplaceAll(name, "-", "_")) + "_KEY"
}

func (d *Destination) verifyKey() error {
	if d.Key != "" && !strings.HasPrefix(d.Key, "env:") {
		return errors.New(`key must name where the key is, as in "env:MY_KEY"; a key itself must not stand in this file`)
	}
	return nil
}

func (d *Destination) verifyEncode() error {
	if d.Encode == "" || d.Encode == "plain" {
		return nil
	}
	if err := settings.Within("encode", d.Encode, "plain", "gzip", "br"); err != nil {
		return err
	}
	if !slices.Contains(d.Rules.Serves.Encodings, d.Encode) {
		return fmt.Errorf("encode is %q, which %s can't serve", d.Encode, d.Rules.Name)
	}
	return nil
}

// verifyAddress refuses addresses over which a key would travel in the clear to another machine.
func verifyAddress(address string) error {
	if address == "" {
		return errors.New("the rulebook names no address, so one is needed here: address = \"https://…\" (havvel start --address)")
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") {
		return fmt.Errorf("address %q is not an https:// address", redacted(address))
	}
	if u.User != nil {
		return errors.New("address holds a user name or password; leave it out and name the key with key = \"env:NAME\"")
	}
	if u.Scheme == "http" && !loopback(u.Hostname()) {
		return fmt.Errorf("address %q is http: the key would travel in the clear; use https", address)
	}
	return nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func redacted(address string) string {
	if u, err := url.Parse(address); err == nil {
		return u.Redacted()
	}
	return "(unreadable)"
}

// Trying is a destination that havvel.toml does not name: a rulebook at an address, its own when that is "".
func (p *Project) Trying(r *rulebook.Rulebook, address string) (*Destination, error) {
	d := &Destination{Name: "try", tried: true, Rules: r, Address: strings.TrimRight(address, "/")}
	if d.Address == "" {
		d.Address = r.Address
	}
	d.Key = keyOf(d.Name, r)
	return d, verifyAddress(d.Address)
}

// Plants reports whether pack may plant the portal's scripts.
func (d *Destination) Plants() bool { return d.Plant == nil || *d.Plant }

// Secret returns the destination's key: from the environment variable that the project names, or else as it was stored; "" for
// a site that has none. The error says what to set.
func (d *Destination) Secret() (string, error) {
	variable := strings.TrimPrefix(d.Key, "env:")
	if key := os.Getenv(variable); variable != "" && key != "" {
		return key, nil
	}
	if d.Key == "" && d.site == nil {
		return "", nil
	}
	key, others, err := keys.Open().Find(d.Name, d.Host())
	if key != "" || err != nil {
		return key, err
	}
	if d.Key == "" {
		return "", nil
	}
	hint := ""
	if d.Rules.Key.Where != "" {
		hint = "; you find the key here: " + d.Rules.Key.Where
	}
	if len(others) > 0 {
		hint += fmt.Sprintf("\n  the key that is stored for %s belongs to %s, and is not told to %s", d.Name, strings.Join(others, ", "), d.Host())
	}
	if d.tried {
		return "", fmt.Errorf("%s wants a key: set the environment variable %s%s", d.Rules.Name, variable, hint)
	}
	return "", fmt.Errorf("%s wants a key: havvel keys set %s stores it, or set the environment variable %s%s", d.Name, d.Name, variable, hint)
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
	problem := &settings.Problem{File: filepath.Join(p.Folder, Name), Message: fmt.Sprintf("there is no destination %q", name)}
	if near := settings.Nearest(name, all); near != "" {
		problem.Hint = fmt.Sprintf("did you mean %q?", near)
	} else if len(all) > 0 {
		problem.Hint = "there is: " + strings.Join(all, ", ")
	} else {
		problem.Hint = fmt.Sprintf("add one:\n\n  [to.%s]\n  rulebook = %q", name, rulebook.Names()[0])
	}
	return problem
}

// ExportPath is the absolute path of the export.
func (p *Project) ExportPath() string {
	if filepath.IsAbs(p.Game.Export) {
		return p.Game.Export
	}
	return filepath.Join(p.Folder, filepath.FromSlash(p.Game.Export))
}
