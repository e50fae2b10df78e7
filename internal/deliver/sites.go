package deliver

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"havvel/internal/deliver/portal"
	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/folder"
	"havvel/internal/deliver/site/ftp"
	"havvel/internal/deliver/site/objects"
	"havvel/internal/deliver/site/sftp"
	"havvel/internal/deliver/site/webdav"
	"havvel/internal/hosting"
	"havvel/internal/logbook"
	"havvel/internal/pack"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// drivers open a site, by the scheme of its address. A new protocol is a package beside these, a line here, and what addresses need to know
// of it in project.Protocols.
var drivers = map[string]func(ctx context.Context, d *project.Destination, u *url.URL, secret string) (site.Store, error){
	"file": func(_ context.Context, _ *project.Destination, u *url.URL, _ string) (site.Store, error) {
		return folder.Open(filepath.FromSlash(u.Path))
	},
	"sftp": func(ctx context.Context, d *project.Destination, u *url.URL, secret string) (site.Store, error) {
		return sftp.Open(ctx, u.Host, u.Path, sftp.Login{User: userOf(u), Identity: identity(d), Secret: secret})
	},
	"ftp":       openFTP(ftp.Explicit),
	"ftps":      openFTP(ftp.Implicit),
	"ftp-plain": openFTP(ftp.Plain),
	"davs":      openWebDAV("https"),
	"dav":       openWebDAV("http"),
	"s3+https":  openObjects,
	"s3+http":   openObjects,
}

func openFTP(security ftp.Security) func(context.Context, *project.Destination, *url.URL, string) (site.Store, error) {
	return func(ctx context.Context, _ *project.Destination, u *url.URL, secret string) (site.Store, error) {
		return ftp.Open(ctx, u.Host, u.Path, userOf(u), secret, security)
	}
}

func openWebDAV(scheme string) func(context.Context, *project.Destination, *url.URL, string) (site.Store, error) {
	return func(ctx context.Context, _ *project.Destination, u *url.URL, secret string) (site.Store, error) {
		address := *u
		address.Scheme = scheme
		return webdav.Open(ctx, &address, u.User.Username(), secret)
	}
}

func openObjects(ctx context.Context, d *project.Destination, u *url.URL, secret string) (site.Store, error) {
	address := *u
	address.Scheme = strings.TrimPrefix(u.Scheme, "s3+")
	id, key, ok := strings.Cut(secret, ":")
	if !ok {
		return nil, &NoKey{fmt.Errorf("%s wants a key pair, written as ID:SECRET\n  havvel keys set %s", d.Name, d.Name)}
	}
	return objects.Open(ctx, &address, id, key)
}

func userOf(u *url.URL) string {
	if name := u.User.Username(); name != "" {
		return name
	}
	if me, err := user.Current(); err == nil {
		return me.Username
	}
	return ""
}

func identity(d *project.Destination) string {
	if rest, ok := strings.CutPrefix(d.Identity, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return d.Identity
}

// tries is how often an upload is begun again after the connection broke off. What was sent stays.
const tries = 4

// onSite does something with a destination's site. When the connection breaks off, it is opened again, after a wait that grows.
func (c *Courier) onSite(ctx context.Context, d *project.Destination, do func(context.Context, *site.Site) error) error {
	secret, err := d.Secret()
	if err != nil {
		return &NoKey{err}
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

// once opens the site, and does it. reached is false when it could not even be opened.
func (c *Courier) once(ctx context.Context, d *project.Destination, secret string, do func(context.Context, *site.Site) error) (reached bool, err error) {
	u := d.SiteAddress()
	outlives, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	defer context.AfterFunc(ctx, func() { time.AfterFunc(grace, stop) })()
	store, err := drivers[u.Scheme](outlives, d, u, secret)
	if err != nil {
		return false, err
	}
	defer store.Close()
	s := site.New(store, d.Keep, sender())
	s.Report = c.Report
	return true, do(ctx, s)
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

func (c *Courier) sendToSite(ctx context.Context, d *project.Destination, p Parcel) (*Status, error) {
	parcel := site.Parcel{Folder: site.Folder(p.Version, p.Archive.SHA256), Version: p.Version, Fingerprint: p.Fingerprint}
	for _, f := range p.Archive.Files {
		parcel.Files = append(parcel.Files, siteFile(f))
	}
	var sent site.Sent
	err := c.onSite(ctx, d, func(ctx context.Context, s *site.Site) (err error) {
		sent, err = s.Send(ctx, parcel, c.Report)
		return err
	})
	if err != nil {
		return nil, err
	}
	status, err := c.begin(d, p, &portal.Answer{State: rulebook.Draft}, map[string]string{folderValue: parcel.Folder})
	if status != nil {
		status.Draft, status.Took = siteLink(d, parcel.Folder), sent
	}
	return status, err
}

func siteFile(f pack.Content) site.File {
	sent := hosting.Any.Send(f.Name)
	return site.File{Name: f.Name, Bytes: f.Bytes, SHA256: f.SHA256, Encoding: f.Encoding, Type: sent.Type, Cache: "public, max-age=31536000, immutable", Open: openFile(f.Path)}
}

func siteLink(d *project.Destination, folder string) string {
	if d.Public == "" {
		return ""
	}
	return site.Address(d.Public, folder)
}

// askSite looks at what the site says of a delivery.
func (c *Courier) askSite(ctx context.Context, d *project.Destination, l *logbook.Delivery) (*Status, error) {
	folder := l.Values[folderValue]
	answer := &portal.Answer{State: rulebook.Withdrawn, Draft: siteLink(d, folder)}
	err := c.onSite(ctx, d, func(ctx context.Context, s *site.Site) error {
		x, err := s.Index(ctx)
		if err != nil {
			return err
		}
		switch v := x.Find(folder); {
		case v == nil:
			answer.Draft = "" // it is not there any more
		case x.Current == folder:
			answer.State, answer.Link = rulebook.Public, d.Public
		case v.Public && x.Current != "":
			answer.State = rulebook.Replaced
		case !v.Public:
			answer.State = rulebook.Draft
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return c.record(l, answer)
}

// switchSite makes a delivery current on its site, or none when there is no link.
func (c *Courier) switchSite(ctx context.Context, d *project.Destination, folder string) (*portal.Answer, error) {
	err := c.onSite(ctx, d, func(ctx context.Context, s *site.Site) error { return s.Switch(ctx, folder) })
	if folder == "" {
		return &portal.Answer{State: rulebook.Withdrawn}, err
	}
	return &portal.Answer{State: rulebook.Public, Link: d.Public}, err
}

func (c *Courier) siteVersions(ctx context.Context, d *project.Destination) ([]Known, error) {
	var list []Known
	err := c.onSite(ctx, d, func(ctx context.Context, s *site.Site) error {
		x, err := s.Index(ctx)
		if err != nil {
			return err
		}
		list = nil
		for _, v := range x.Versions {
			k := Known{v.Version, rulebook.Draft}
			switch {
			case v.Folder == x.Current:
				k.State = rulebook.Public
			case v.Public:
				k.State = rulebook.Replaced
			}
			list = append(list, k)
		}
		return nil
	})
	return list, err
}
