package deliver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"time"

	"github.com/cenkalti/backoff/v5"

	"havvel/internal/deliver/portal"
	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/root"
	"havvel/internal/fault"
	"havvel/internal/hosting"
	"havvel/internal/logbook"
	"havvel/internal/pack"
	"havvel/internal/pieces"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// tries is how often an upload is begun again after the connection broke off. What was sent stays.
const tries = 4

// onSite does something with a destination's site. When the connection breaks off, it is opened again, after a wait that grows.
func (c *Courier) onSite(ctx context.Context, d *project.Destination, do func(context.Context, *site.Site) error) error {
	secret, err := d.Secret()
	if err != nil {
		return err
	}
	waits := backoff.NewExponentialBackOff()
	waits.InitialInterval = time.Second
	_, err = backoff.Retry(ctx, func() (struct{}, error) {
		reached, err := c.once(ctx, d, secret, do)
		var gone *site.Unreachable
		if err != nil && (!reached || !errors.As(err, &gone)) {
			err = backoff.Permanent(err)
		}
		return struct{}{}, err
	}, backoff.WithBackOff(waits), backoff.WithMaxTries(tries))
	var final *backoff.PermanentError
	if errors.As(err, &final) {
		err = final.Err
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// about is what the page at a site's root says besides the game.
func (c *Courier) about(d *project.Destination) root.About {
	a := root.About{Address: d.Public, Until: d.Ends(), Feedback: d.Feedback}
	if c.Project != nil {
		a.Title, a.Description = c.Project.Game.Title, c.Project.ListingFor(d).Tagline
	}
	return a
}

// once opens the site, and does it. reached is false when it could not even be opened.
func (c *Courier) once(
	ctx context.Context,
	d *project.Destination,
	secret string,
	do func(context.Context, *site.Site) error,
) (reached bool, err error) {
	h, err := c.dial(ctx, d, secret)
	if err != nil {
		return false, err
	}
	s := site.New(h.store, d.Keep, sender())
	s.Report, s.About, s.Lanes, s.Sketches, s.Abilities = c.Report, c.about(d), d.Lanes, c.sketches(), h.can
	if d.KeepFor > 0 {
		s.Grace = time.Duration(d.KeepFor)
	}
	err = do(ctx, s)
	h.release()
	c.remember(d.SiteAddress(), h.can)
	var gone *site.Unreachable
	if ctx.Err() != nil || errors.As(err, &gone) {
		h.close()
		return true, err
	}
	c.lines.keep(d.Name, h)
	return true, err
}

// grace is how long a connection stays after a stop, so that the lock can be given back.
const grace = 3 * time.Second

// sender says who we are, for others who send to the same place.
func sender() string {
	name := "somebody"
	if me, err := user.Current(); err == nil {
		name = me.Username
	}
	if host, err := os.Hostname(); err == nil {
		name += " on " + host
	}
	return name
}

// The values that the logbook keeps of a version on a site.
const folderValue = "folder"

// siteTarget is a host that just keeps files.
type siteTarget struct {
	*Courier
	to   *project.Destination
	word string // the page's password, where it was asked for; "" for the one that is stored
}

// Can: of itself a site has no page, asks for no password and sets no headers.
func (t *siteTarget) Can(what Ability) bool {
	return slices.Contains([]Ability{Send, Follow, Publish, Back, Withdraw, List, Compare, Restrict}, what) &&
		(what != Compare && what != Restrict || t.to.Public != "")
}

func (t *siteTarget) No(what Ability) error {
	switch what {
	case Fill:
		return fault.New(fault.No, "%s is a site, which has no page around the game", t.to.Name)
	case Restrict:
		return t.Project.Problem("to."+t.to.Name,
			"whether %s asks for a password can't be told, since its public address isn't known", t.to.Name).
			Then("set public under [to.%s] in havvel.toml", t.to.Name)
	case Compare:
		return t.Project.Problem("to."+t.to.Name, "it is not known where players find %s", t.to.Name).
			Then("set public under [to.%s] in havvel.toml", t.to.Name)
	}
	return fault.New(fault.No, "%s is a site, which can't do that (%s)", t.to.Name, what)
}

func (t *siteTarget) Send(ctx context.Context, p Parcel) (Receipt, error) {
	parcel := site.Parcel{Folder: site.Folder(p.Version, p.Archive.SHA256), Version: p.Version, Fingerprint: p.Fingerprint, Stand: p.Stand}
	for _, f := range p.Archive.Files {
		parcel.Files = append(parcel.Files, siteFile(f))
	}
	if p.Preview != "" {
		f, err := preview(p.Preview)
		if err != nil {
			return Receipt{}, err
		}
		parcel.Files, parcel.Stand.Picture = append(parcel.Files, f), f.Name
	}
	var sent site.Sent
	err := t.onSite(ctx, t.to, func(ctx context.Context, s *site.Site) (err error) {
		sent, err = s.Send(ctx, parcel, t.Report)
		return err
	})
	answer := &portal.Answer{State: rulebook.Draft, Draft: siteLink(t.to, parcel.Folder)}
	return Receipt{Answer: answer, Values: logbook.Values{folderValue: parcel.Folder}, Took: sent}, err
}

// preview is the picture that those show who show a preview of the site's link. Its name tells its content, since caches keep it.
func preview(file string) (site.File, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return site.File{}, fmt.Errorf("the picture for previews: %w", err)
	}
	sum := sha256.Sum256(data)
	text := hex.EncodeToString(sum[:])
	f := siteFile(pack.Content{Name: "havvel-preview-" + text[:8] + filepath.Ext(file), Path: file, Bytes: int64(len(data)), SHA256: text})
	return f, nil
}

func siteFile(f pack.Content) site.File {
	sent := hosting.Any.Send(f.Name)
	return site.File{
		Name:     f.Name,
		Bytes:    f.Bytes,
		SHA256:   f.SHA256,
		Encoding: f.Encoding,
		Type:     sent.Type,
		Cache:    "public, max-age=31536000, immutable",
		Open:     openFile(f.Path),
	}
}

func siteLink(d *project.Destination, folder string) string {
	if d.Public == "" {
		return ""
	}
	return site.Address(d.Public, folder)
}

// Ask looks at what the site says of a delivery. It decides at once.
func (t *siteTarget) Ask(ctx context.Context, l *logbook.Delivery, _ time.Duration) (*portal.Answer, error) {
	folder := l.Values.Text(folderValue)
	answer := &portal.Answer{State: rulebook.Withdrawn, Draft: siteLink(t.to, folder)}
	err := t.onSite(ctx, t.to, func(ctx context.Context, s *site.Site) error {
		x, err := s.Index(ctx)
		if err != nil {
			return err
		}
		switch answer.State = stateOf(x, folder); {
		case x.Find(folder) == nil:
			answer.Draft = "" // it is not there any more
		case answer.State == rulebook.Public:
			answer.Link = t.to.Public
		case x.Unopened == folder:
			answer.Reasons = []string{"players get no game: index.html or havvel.json at the root is gone, or Havvel did not write it; " +
				"havvel publish puts it back"}
		}
		return nil
	})
	return answer, err
}

// Withdraw makes none the current one.
func (t *siteTarget) Withdraw(ctx context.Context, _ *logbook.Delivery) (*portal.Answer, error) {
	_, err := t.become(ctx, "", true)
	return &portal.Answer{State: rulebook.Withdrawn}, err
}

// Do makes a version public behind a password, which is the web server's to ask for: it is looked at first whether it does.
func (t *siteTarget) Do(ctx context.Context, l *logbook.Delivery, what Ability, detail any) (*portal.Answer, error) {
	word, ok := detail.(string)
	if what != Restrict || !ok {
		return nil, t.No(what)
	}
	v := newVisitor(t.to.Public)
	open, err := v.fetch(ctx, t.to.Public, true)
	if err != nil {
		return nil, err
	}
	if open.status != http.StatusUnauthorized {
		return nil, fault.New(fault.No, "%s doesn't ask strangers for a password (it answers with status %d); nothing was changed", t.to.Public,
			open.status).Then("havvel where --server NAME --password --to %s writes what its web server needs for that", t.to.Name)
	}
	v.password = word
	let, err := v.fetch(ctx, t.to.Public, true)
	if err == nil && (let.status == http.StatusUnauthorized || let.status >= http.StatusInternalServerError) {
		err = fault.New(fault.No, "%s doesn't take this password for %q (it answers with status %d); nothing was changed", t.to.Public,
			PagesUser, let.status).Then("havvel where --server NAME --password --to %s writes the line that its web server needs", t.to.Name)
	}
	if err != nil {
		return nil, err
	}
	t.word = word
	answer, _, err := t.Release(ctx, l, Publish)
	return answer, err
}

// Look compares every file that players get with what was sent.
func (t *siteTarget) Look(ctx context.Context, l *logbook.Delivery) (*Live, error) {
	if !t.Can(Compare) {
		return nil, t.No(Compare)
	}
	folder := l.Values.Text(folderValue)
	on, err := t.holds(ctx, folder)
	if err != nil {
		return nil, err
	}
	return t.visitor().site(ctx, shown{on.index.Current, on.index.Page()}, folder, on.contents.Files, t.to.Serves)
}

// List says which versions the site keeps.
func (t *siteTarget) List(ctx context.Context) ([]Known, error) {
	var list []Known
	err := t.onSite(ctx, t.to, func(ctx context.Context, s *site.Site) error {
		x, err := s.Index(ctx)
		if err != nil {
			return err
		}
		list = nil
		for _, v := range x.Versions {
			list = append(list, Known{v.Version, stateOf(x, v.Folder)})
		}
		return nil
	})
	return list, err
}

// sketches are kept beside the project's other work.
func (c *Courier) sketches() pieces.Book {
	if c.Project == nil {
		return pieces.Book{}
	}
	return pieces.Book{Folder: filepath.Join(c.Project.CacheFolder(), "pieces")}
}
