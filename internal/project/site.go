package project

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"havvel/internal/rulebook"
)

// A Protocol is a way to reach a site. What opens it is a driver of the same scheme in internal/deliver.
type Protocol struct {
	Scheme  string // of addresses
	Written string // how an address is written, for help; "" for what nobody need know of
	Instead string // what to use on a network, where what travels is not protected; "" where it is
	Bucket  bool   // the address begins with a bucket
}

// Protocols lists the ways to reach a site.
func Protocols() []Protocol {
	return []Protocol{
		{Scheme: "sftp", Written: "sftp://user@host/folder"},
		{Scheme: "ftp", Written: "ftp://"},
		{Scheme: "ftps", Written: "ftps://"},
		{Scheme: "ftp-plain", Instead: "ftp:// (which asks for TLS) or sftp://"},
		{Scheme: "davs", Written: "davs://"},
		{Scheme: "dav", Instead: "davs://"},
		{Scheme: "s3+https", Written: "s3+https://host/bucket/folder", Bucket: true},
		{Scheme: "s3+http", Instead: "s3+https://", Bucket: true},
		{Scheme: "file", Written: "or a folder such as ../public"},
	}
}

// protocolOf finds a protocol by its scheme.
func protocolOf(scheme string) (Protocol, bool) {
	for _, p := range Protocols() {
		if p.Scheme == scheme {
			return p, true
		}
	}
	return Protocol{}, false
}

// SiteAddress is where a site is; nil when the destination is a portal.
func (d *Destination) SiteAddress() *url.URL { return d.site }

// resolveSite reads the address of a site. It is false when the destination is none.
func (d *Destination) resolveSite(folder string) (bool, error) {
	if d.Rulebook != "" {
		if d.Public != "" || d.Keep != 0 || d.Identity != "" || d.Serves != nil || d.Isolation {
			return false, errors.New("public, keep, identity, serves and isolation are for sites, which have no rulebook")
		}
		return false, nil
	}
	address := d.Address
	for _, start := range []string{"/", "./", "../", "~/"} {
		if strings.HasPrefix(address, start) {
			u, err := folderAddress(folder, address)
			d.site = u
			return true, errors.Join(err, d.verifySite())
		}
	}
	u, err := url.Parse(address)
	if err != nil {
		return false, nil
	}
	if _, known := protocolOf(u.Scheme); !known {
		return false, nil
	}
	d.site = u
	return true, d.verifySite()
}

func folderAddress(folder, address string) (*url.URL, error) {
	path := filepath.FromSlash(address)
	if rest, ok := strings.CutPrefix(address, "~/"); ok {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil, err
		}
		path = filepath.Join(home, rest)
	} else if !filepath.IsAbs(path) {
		path = filepath.Join(folder, path)
	}
	return &url.URL{Scheme: "file", Path: filepath.ToSlash(path)}, nil
}

func (d *Destination) verifySite() error {
	u := d.site
	if u == nil {
		return nil
	}
	if _, password := u.User.Password(); password {
		return errors.New("address holds a password; leave it out, and store it with havvel keys set")
	}
	by, _ := protocolOf(u.Scheme)
	switch {
	case u.Scheme != "file" && u.Host == "":
		return fmt.Errorf("address %q names no host", u.Redacted())
	case u.RawQuery != "" || u.Fragment != "":
		return fmt.Errorf("address %q has a query or fragment, which a site's has not", u.Redacted())
	case by.Instead != "" && !loopback(u.Hostname()):
		return fmt.Errorf("with %s:// the password would travel in the clear; use %s", u.Scheme, by.Instead)
	case by.Bucket && strings.Trim(u.Path, "/") == "":
		return fmt.Errorf("address %q names no bucket: %s://HOST/BUCKET/FOLDER", u.Redacted(), u.Scheme)
	case by.Bucket && d.Key == "":
		d.Key = usualKey(d.Name)
	}
	if d.Keep < 0 || d.Keep == 1 {
		return errors.New("keep is how many versions stay there: 0 for all, or 2 and more, so that there is one to go back to")
	}
	if d.Public != "" {
		p, err := url.Parse(d.Public)
		if err != nil || p.Host == "" || p.Scheme != "http" && p.Scheme != "https" {
			return fmt.Errorf("public is %q; it is the https:// address under which players reach the site", d.Public)
		}
		d.Public = strings.TrimSuffix(d.Public, "/") + "/"
	}
	for _, e := range d.Serves {
		if e != "gzip" && e != "br" {
			return fmt.Errorf("serves names %q; it can be \"gzip\" and \"br\"", e)
		}
	}
	if by.Bucket && d.Serves == nil {
		d.Serves = []string{"gzip", "br"} // an object keeps its Content-Encoding
	}
	d.Rules = rulebook.Site(d.Name, d.Serves, d.Isolation)
	return nil
}

// Shown is the destination's address without user information, as it may be printed.
func (d *Destination) Shown() string {
	if d.site == nil || d.site.User == nil {
		return d.Address
	}
	u := *d.site
	u.User = nil
	return u.String()
}

// Host is where the destination's key may be told to.
func (d *Destination) Host() string {
	if d.site != nil {
		return d.site.Host
	}
	if u, err := url.Parse(d.Address); err == nil {
		return u.Host
	}
	return ""
}

// sites lists the ways to write a site's address.
func sites() string {
	var list []string
	for _, p := range Protocols() {
		if p.Written != "" {
			list = append(list, p.Written)
		}
	}
	return strings.Join(list, ", ")
}
