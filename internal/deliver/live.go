package deliver

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/root"
	"havvel/internal/hosting"
	"havvel/internal/logbook"
	"havvel/internal/project"
	"havvel/internal/rulebook/place"
)

// A Difference is something that players get in another form than it was packed.
type Difference struct {
	File string `json:"file"`
	Kind string `json:"kind"` // "missing", "content", "stale", "type", "encoding", "isolation", "policy", "password", "link" or "cache"
	Says string `json:"says"`
	Fix  string `json:"fix"`
}

// Live is what was seen at a public link.
type Live struct {
	Link        string       `json:"link"`
	Files       int          `json:"files"` // that were fetched
	Bytes       int64        `json:"bytes"`
	Differences []Difference `json:"differences"`
}

// Look fetches what players get of a public delivery, and compares it with what was sent, as far as its destination lets it.
func (c *Courier) Look(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*Live, error) {
	return c.Target(d).Look(ctx, l)
}

// A visitor fetches what players get.
type visitor struct {
	link     string
	isolated bool
	inline   bool   // the entry page runs scripts that stand in it
	password string // that the host asks for; "" for none
	client   *http.Client

	mu   sync.Mutex
	seen Live
}

func (v *visitor) say(file, kind, says, fix string) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.seen.Differences = append(v.seen.Differences, Difference{file, kind, says, fix})
}

// page looks whether a page answers.
func (v *visitor) page(ctx context.Context, link string) (*Live, error) {
	v.seen.Link, v.seen.Files, v.seen.Differences = link, 1, []Difference{}
	got, err := v.fetch(ctx, link, false)
	if err != nil {
		return nil, err
	}
	v.seen.Bytes = got.bytes
	if got.status != http.StatusOK {
		v.say("", "missing", fmt.Sprintf("the link answers with status %d", got.status), "ask the portal, or publish once more")
	}
	return &v.seen, nil
}

// opens says why a link doesn't open as a page for a stranger; "" when it does.
func (v *visitor) opens(ctx context.Context, link string) (string, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, link, nil)
	if err != nil {
		return "", err
	}
	r.Header.Set("Accept", "text/html, */*;q=0.5")
	client := &http.Client{Timeout: 30 * time.Second}
	got, err := client.Do(r)
	if err != nil {
		return "", &site.Unreachable{Host: r.URL.Host + ", where players go", Cause: err}
	}
	defer got.Body.Close()
	body, err := io.ReadAll(io.LimitReader(got.Body, 1<<20))
	if err != nil {
		return "", &site.Unreachable{Host: r.URL.Host, Cause: err}
	}
	at := got.Request.URL
	moved := at.Host != r.URL.Host || at.Path != r.URL.Path
	switch a := (&place.Answer{Header: got.Header, Body: body}); {
	case got.StatusCode != http.StatusOK:
		return fmt.Sprintf("it answers with status %d", got.StatusCode), nil
	case moved && password.Match(body):
		return fmt.Sprintf("it leads to a log-in (%s)", at.Host+at.Path), nil
	case !a.Page():
		return "it is " + a.Kind(), nil
	}
	return "", nil
}

// password finds a field for one, as a page has that lets only some in.
var password = regexp.MustCompile(`(?i)<input[^>]+type\s*=\s*["']?password`)

// site looks at every file of the version that players are led to.
func (v *visitor) site(ctx context.Context, now shown, folder string, list []site.Held, serves []string) (*Live, error) {
	v.seen.Link, v.seen.Differences = v.link, []Difference{}
	leads, err := v.leads(ctx, now)
	if err != nil || !leads {
		return &v.seen, err
	}
	return v.files(ctx, folder, list, serves)
}

// files looks at every file of a version, whether players are led to it or not.
func (v *visitor) files(ctx context.Context, folder string, list []site.Held, serves []string) (*Live, error) {
	v.seen.Link = v.link
	if v.seen.Differences == nil {
		v.seen.Differences = []Difference{}
	}
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(6)
	for _, h := range list {
		work.Go(func() error { return v.file(ctx, "versions/"+folder+"/", h, serves) })
	}
	err := work.Wait()
	slices.SortFunc(v.seen.Differences, func(a, b Difference) int { return strings.Compare(a.File+a.Kind, b.File+b.Kind) })
	return &v.seen, err
}

// shown is what a site holds at its root, so what players should get.
type shown struct {
	current string // the version's folder; "" for none
	page    []byte
}

// leads looks where players are led, around caches and through them, and says what is wrong. It reports whether the public address shows
// the site at all.
func (v *visitor) leads(ctx context.Context, now shown) (bool, error) {
	fresh, err := v.index(ctx, true)
	if err != nil {
		return false, err
	}
	kept, err := v.index(ctx, false)
	if err != nil {
		return false, err
	}
	if !fresh.read || fresh.Current != now.current && fresh.Current == kept.Current {
		why := fmt.Sprintf("players are led to %q, and not to %q, which is current on the site", fresh.Current, now.current)
		if !fresh.read {
			why = fmt.Sprintf("the public address does not show what is on the site (status %d)", fresh.status)
		}
		v.say("havvel.json", "missing", why, "is public in havvel.toml the address of the same folder?")
		return false, nil
	}
	if err := v.locked(ctx, now.current); err != nil {
		return false, err
	}
	if root.Version(now.page) == "" { // the index leads players
		v.cached("havvel.json", kept.header, kept.Current, now.current)
	}
	return true, v.opened(ctx, now)
}

// PagesUser is the name under which a site's page takes its password.
const PagesUser = "player"

// locked says where the page, or the version's own folder, is shown without the password that it should ask for.
func (v *visitor) locked(ctx context.Context, current string) error {
	if v.password == "" {
		return nil
	}
	stranger := newVisitor(v.link)
	for _, link := range []string{v.link, site.Address(v.link, current)} {
		got, err := stranger.fetch(ctx, link, true)
		if err != nil {
			return err
		}
		if got.status == http.StatusOK {
			v.say("", "password", link+" is shown to strangers, who don't have its password", openPage)
		}
	}
	return nil
}

const openPage = "havvel where --server NAME --password writes what its web server needs; havvel keys forget takes the password out of use"

// cached says what a cache does with a file that leads players: it leads them to is, and should to want.
func (v *visitor) cached(name string, header http.Header, is, want string) {
	age := maxAge(header.Get("Cache-Control"))
	switch {
	case is != want:
		left := max(0, time.Duration(age-seconds(header.Get("Age")))*time.Second)
		v.say(name, "stale", "a cache on the way still leads players to "+is+until(time.Now(), left, age),
			"empty that cache, and have it pass "+name+" on (Cache-Control: no-store)")
	case age > 60:
		v.say(name, "cache", fmt.Sprintf("it may be kept by caches for %d seconds, so players find a new version that much later", age),
			"have the web server send Cache-Control: no-cache for "+name)
	}
}

// until says how long a cache keeps what it has.
func until(now time.Time, left time.Duration, age int) string {
	if age == 0 {
		return ", for a time that it doesn't say"
	}
	return fmt.Sprintf(", until %s at the latest", now.Add(left).Local().Format("15:04:05"))
}

func seconds(text string) int {
	n, _ := strconv.Atoi(text) // 0 where it doesn't say
	return n
}

// A front is what a site's index says, as players get it.
type front struct {
	site.Index
	read   bool
	status int
	header http.Header
}

func (v *visitor) index(ctx context.Context, around bool) (*front, error) {
	got, err := v.fetch(ctx, v.link+"havvel.json", around)
	if err != nil {
		return nil, err
	}
	f := &front{status: got.status, header: got.header}
	f.read = got.status == http.StatusOK && json.Unmarshal(got.start, &f.Index) == nil
	return f, nil
}

const servesIndex = "have the web server serve index.html for the folder"

// opened looks whether the public link opens as the site's page, and that version's, around caches and through them.
func (v *visitor) opened(ctx context.Context, now shown) error {
	got, err := v.fetch(ctx, v.link, true)
	if err != nil {
		return err
	}
	want := sha256.Sum256(now.page)
	is := func(f *fetched) bool { return f.plain == hex.EncodeToString(want[:]) }
	switch version := root.Version(got.start); {
	case got.status != http.StatusOK:
		v.say("", "link", fmt.Sprintf("the public link answers with status %d", got.status), servesIndex)
		return nil
	case !root.Opens(got.start):
		v.say("", "link", "the public link shows another page than the one that opens the game", servesIndex)
		return nil
	case !is(got) && version != root.Version(now.page):
		v.say("", "link", fmt.Sprintf("the public link shows %s, and not %s, which is current on the site", named(version), named(now.current)),
			"is public in havvel.toml the address of the same folder?")
		return nil
	case !is(got):
		v.say("", "content", "the public link shows the game's page in another form than it was written", "look whether the host changes pages")
	}
	if root.Version(now.page) == "" {
		return nil
	}
	v.headers("index.html", got, nil)
	v.policy(got)
	kept, err := v.fetch(ctx, v.link, false)
	if err != nil {
		return err
	}
	if kept.status == http.StatusOK {
		v.cached("index.html", kept.header, cmp.Or(root.Version(kept.start), "another page"), now.current)
	}
	return nil
}

// named is a version's folder in words.
func named(folder string) string {
	if folder == "" {
		return "a page that opens a version in its folder"
	}
	return folder
}

// maxAge is for how many seconds an answer may be kept (RFC 9111 section 5.2.2.1).
func maxAge(header string) int {
	for part := range strings.SplitSeq(header, ",") {
		if text, ok := strings.CutPrefix(strings.TrimSpace(part), "max-age="); ok {
			if n, err := strconv.Atoi(text); err == nil {
				return n
			}
		}
	}
	return 0
}

func (v *visitor) file(ctx context.Context, under string, h site.Held, serves []string) error {
	address := v.link + under + (&url.URL{Path: h.Name}).EscapedPath()
	got, err := v.fetch(ctx, address, false)
	if err != nil {
		return err
	}
	v.mu.Lock()
	v.seen.Files++
	v.seen.Bytes += got.bytes
	v.mu.Unlock()
	if got.status != http.StatusOK {
		v.say(h.Name, "missing", fmt.Sprintf("players get status %d", got.status), "does the web server serve files of this kind?")
		return nil
	}
	if got.sum != h.SHA256 && got.plain != h.SHA256 {
		fresh, err := v.fetch(ctx, address, true)
		if err != nil {
			return err
		}
		if fresh.sum == h.SHA256 || fresh.plain == h.SHA256 {
			v.say(h.Name, "stale", "players get an old content from a cache on the way", "empty the cache that stands before the host")
		} else {
			v.say(h.Name, "content", fmt.Sprintf("players get other content (%d bytes instead of %d)", got.bytes, h.Bytes), "send the version "+
				"again, and look whether the host changes files")
		}
	}
	v.headers(h.Name, got, serves)
	if v.inline && h.Name == "index.html" {
		v.policy(got)
	}
	return nil
}

// policy says where a host's policy keeps the page at the root from working.
func (v *visitor) policy(got *fetched) {
	if root.Forbids(got.header.Values("Content-Security-Policy")) {
		v.say("index.html", "policy",
			"the host's Content-Security-Policy keeps scripts in the page from running, so the game's files wouldn't be found",
			"allow 'unsafe-inline' scripts and leave out base-uri for the game's page")
	}
}

// headers judges how a file came.
func (v *visitor) headers(name string, got *fetched, serves []string) {
	sent := hosting.Host{Encodings: serves}.Send(name)
	want, encoding := sent.Type, sent.Encoding
	if encoding != "" && got.header.Get("Content-Encoding") != encoding {
		v.say(
			name,
			"encoding",
			"it comes without Content-Encoding: "+encoding,
			"have the web server send it, or take it out of serves in havvel.toml, so that pack writes plain files",
		)
	}
	wanted, _, _ := mime.ParseMediaType(want)
	is, _, _ := mime.ParseMediaType(got.header.Get("Content-Type"))
	strict := wanted == "application/wasm" || wanted == "text/javascript" || wanted == "text/html" || wanted == "text/css"
	if strict && is != wanted && !(wanted == "text/javascript" && strings.Contains(is, "javascript")) {
		v.say(name, "type", fmt.Sprintf("it comes as %q instead of %q", is, wanted), "tell the web server the type of "+path.Ext(name)+" files")
	}
	if v.isolated && wanted == "text/html" && !hosting.Isolated(got.header) {
		v.say(
			name,
			"isolation",
			"the page comes without cross-origin isolation headers, so threads don't work",
			"have the web server send Cross-Origin-Opener-Policy: same-origin and Cross-Origin-Embedder-Policy: require-corp",
		)
	}
}
