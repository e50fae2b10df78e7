package app

import (
	"context"
	"net/url"
	"path"
	"strings"

	"golang.org/x/crypto/bcrypt"

	"havvel/internal/deliver"
	"havvel/internal/fault"
	"havvel/internal/hosting"
	"havvel/internal/hosting/server"
	"havvel/internal/inwords"
	"havvel/internal/keys"
	"havvel/internal/project"
)

// Lines are what the web server of a site needs; as JSON they are the document of havvel where --server.
type Lines struct {
	Destination  string   `json:"destination"`
	Server       string   `json:"server"`
	Where        string   `json:"where"`         // the lines belong
	Lines        string   `json:"lines"`         // of its configuration
	PasswordFile string   `json:"password_file"` // that the lines name; "" for none
	PasswordLine string   `json:"password_line"` // what that file holds
	Then         []string `json:"then"`          // keys of havvel.toml that are true once the lines are in place
}

// Server writes the lines that a site's web server needs, with a password where one is wanted, which is kept with the keys then.
func (k *Desk) Server(ctx context.Context, name string, locked bool) (*Lines, error) {
	d, err := k.onlySite()
	if err != nil {
		return nil, err
	}
	p := server.Place{Host: hosting.Any, Title: k.Project.Game.Title, Path: "/"}
	if u, err := url.Parse(d.Public); err == nil && strings.Trim(u.Path, "/") != "" {
		p.Path = path.Clean("/"+u.Path) + "/"
	}
	p.Isolation = d.Isolation || k.needsIsolation(ctx)
	if locked {
		word, err := k.pageWord(d)
		if err != nil {
			return nil, err
		}
		hash, err := bcrypt.GenerateFromPassword([]byte(word), bcrypt.DefaultCost)
		if err != nil {
			return nil, fault.New(fault.No, "the password can't be used: %w", err).Then("take one of at most 72 letters")
		}
		p.User, p.Hash = deliver.PagesUser, "$2y$"+string(hash[4:]) // the same as $2a$, under the name that all web servers know
	}
	text, where, ok := server.Lines(name, p)
	if !ok {
		return nil, fault.New(fault.Usage, "there are no lines for %q; there are some for: %s", name, inwords.List(server.Names()))
	}
	out := &Lines{Destination: d.Name, Server: name, Where: where, Lines: text, Then: []string{}}
	out.PasswordLine, out.PasswordFile = server.PasswordFile(name, p)
	if len(d.Serves) < 2 {
		out.Then = append(out.Then, `serves = ["gzip", "br"]`)
	}
	if p.Isolation && !d.Isolation {
		out.Then = append(out.Then, "isolation = true")
	}
	return out, nil
}

// onlySite is the one destination that is a site.
func (k *Desk) onlySite() (*project.Destination, error) {
	var d *project.Destination
	for _, one := range k.Destinations {
		if one.SiteAddress() == nil {
			continue
		}
		if d != nil {
			return nil, fault.New(fault.Usage, "there are several sites").Then("name one with --to")
		}
		d = one
	}
	if d == nil {
		return nil, fault.New(fault.Usage, "none of these destinations is a site, whose web server is yours")
	}
	return d, nil
}

// needsIsolation reports whether the project's export needs it, as far as that can be read.
func (k *Desk) needsIsolation(ctx context.Context) bool {
	b, err := Known(ctx, k.Project, k.Project.ExportPath())
	if err != nil {
		return false
	}
	defer b.Close()
	return b.NeedsIsolation() != nil
}

// pageWord is the password of a destination's page: the one that is kept, or a new one, which is kept then.
func (k *Desk) pageWord(d *project.Destination) (string, error) {
	if word := d.PagePassword(); word != "" {
		return word, nil
	}
	word, err := k.Password(d)
	if err != nil || k.DryRun {
		return word, err
	}
	key := d.PageKey()
	key.Secret, key.Set = word, k.Courier.Now().UTC().Truncate(1e9)
	return word, keys.Open().Set(key)
}
