package project

import (
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"havvel/internal/deliver/protocol"
	"havvel/internal/deliver/site/trust"
	"havvel/internal/inwords"
	"havvel/internal/keys"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// SiteAddress is where a site is; nil when the destination is a portal.
func (d *Destination) SiteAddress() *url.URL { return d.site }

// resolveSite reads the address of a site. It is false when the destination is none.
func (d *Destination) resolveSite(doc *settings.Document, folder string) bool {
	if d.Rulebook != "" {
		of := []string{"public", "keep", "keep_for", "serves", "isolation", "until", "feedback", "lanes", "insecure"}
		for _, key := range append(of, special...) {
			if doc.Has(d.path + "." + key) {
				doc.Wrong(d.path+"."+key, "is for sites, which have no rulebook")
			}
		}
		return false
	}
	address := d.Address
	if IsFolder(address) {
		u, err := folderAddress(folder, address)
		doc.Add(d.path+".address", err)
		d.site = u
		d.verifySite(doc)
		return true
	}
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	if _, known := protocol.Find(u.Scheme); !known {
		return false
	}
	d.site = u
	d.verifySite(doc)
	return true
}

// IsFolder reports whether an address is the path of a folder, which is a site, too.
func IsFolder(address string) bool {
	for _, start := range []string{"/", "./", "../", "~/"} {
		if strings.HasPrefix(address, start) {
			return true
		}
	}
	return address == ".." || filepath.IsAbs(address)
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

func (d *Destination) verifySite(doc *settings.Document) {
	u := d.site
	d.Rules = rulebook.Site(d.Name, d.Serves, d.Isolation)
	if u == nil {
		return
	}
	at := d.path + ".address"
	if _, password := u.User.Password(); password {
		doc.Wrong(at, "has a password in it; leave it out").Then("havvel keys set %s stores it", d.Name)
		return
	}
	by, _ := protocol.Find(u.Scheme)
	d.verifyAddress(doc, at, by)
	d.verifySpecial(doc, by)
	if d.Lanes < 0 || d.Lanes > 64 {
		doc.Wrong(d.path+".lanes", "is %d; it is how many files travel at once: from 1 to 64", d.Lanes)
	}
	if d.Keep < 0 || d.Keep == 1 {
		doc.Wrong(
			d.path+".keep",
			"is %d; it is how many versions stay there: 0 for all, or 2 and more, so that there is one to go back to",
			d.Keep,
		)
	}
	d.verifyPublic(doc)
	d.verifyPage(doc)
	doc.Each(d.path+".serves", d.Serves, "gzip", "br")
	if by.Bucket && d.Serves == nil {
		d.Serves = []string{"gzip", "br"} // an object keeps its Content-Encoding
		d.Rules = rulebook.Site(d.Name, d.Serves, d.Isolation)
	}
}

func (d *Destination) verifyAddress(doc *settings.Document, at string, by protocol.Protocol) {
	u := d.site
	switch {
	case u.Scheme != "file" && u.Host == "":
		doc.Wrong(at, "is %q, which names no host", u.Redacted())
	case u.RawQuery != "" || u.Fragment != "":
		doc.Wrong(at, "is %q; a site's address has no query and no fragment", u.Redacted())
	case by.Instead != "" && !loopback(u.Hostname()) && !d.Insecure:
		doc.Wrong(at, "begins with %s://, over which the password would be readable on the way", u.Scheme).
			Then("use %s; where the host has nothing else, insecure = true sends it all the same", by.Instead)
	case by.Bucket && strings.Trim(u.Path, "/") == "":
		doc.Wrong(at, "is %q, which names no bucket", u.Redacted()).Then("write it like %s://HOST/BUCKET/FOLDER", u.Scheme)
	case by.Bucket && d.Key == "":
		d.Key = usualKey(d.Name)
	}
}

func (d *Destination) verifyPublic(doc *settings.Document) {
	if d.Public == "" {
		return
	}
	p, err := url.Parse(d.Public)
	if err != nil || p.Host == "" || p.Scheme != "http" && p.Scheme != "https" {
		doc.Wrong(d.path+".public", "is %q; it must be the https:// address where players find the site", d.Public)
	}
	d.Public = strings.TrimSuffix(d.Public, "/") + "/"
}

// special are the settings that only sites of some protocols know.
var special = []string{"identity", "host_key", "mode", "certificate", "data_host", "region", "bucket_in_host"}

func (d *Destination) verifySpecial(doc *settings.Document, by protocol.Protocol) {
	for _, key := range special {
		if doc.Has(d.path+"."+key) && !slices.Contains(by.Keys, key) {
			doc.Wrong(d.path+"."+key, "is only for sites at %s", inwords.List(protocol.Knowing(key)))
		}
	}
	if d.HostKey != "" && !strings.HasPrefix(d.HostKey, "SHA256:") {
		doc.Wrong(d.path+".host_key", "is %q; it is the fingerprint of an SFTP host's key, as ssh-keygen -l prints it: SHA256:…",
			d.HostKey)
	}
	if d.Certificate != "" && !trust.Valid(d.Certificate) {
		doc.Wrong(d.path+".certificate",
			"is %q; it is the SHA-256 fingerprint of the host's certificate, as openssl x509 -sha256 -fingerprint prints it: 3F:A0:…",
			d.Certificate)
	}
	if mode, err := strconv.ParseUint(d.Mode, 8, 32); d.Mode != "" && (err != nil || mode > 0o777 || mode&0o400 == 0) {
		doc.Wrong(d.path+".mode",
			"is %q; it is the mode of the files there, as chmod takes it: \"644\", or \"640\" where the web server is in their group", d.Mode)
	}
}

// FileMode is the mode that files of a site get; 0 for what a web server needs.
func (d *Destination) FileMode() fs.FileMode {
	mode, _ := strconv.ParseUint(d.Mode, 8, 32) // verified
	return fs.FileMode(mode)
}

// verifyPage looks at what the page at a site's address is to say.
func (d *Destination) verifyPage(doc *settings.Document) {
	if d.Until != "" {
		last, err := time.ParseInLocation(time.DateOnly, d.Until, time.Local)
		if err != nil {
			doc.Wrong(d.path+".until", "is %q, which is no day", d.Until).Then(`write it like "2026-12-31"`)
		}
		d.ends = last.AddDate(0, 0, 1)
	}
	if d.Feedback != "" {
		u, err := url.Parse(d.Feedback)
		if err != nil || u.Scheme != "mailto" && (u.Host == "" || u.Scheme != "https" && u.Scheme != "http") {
			doc.Wrong(d.path+".feedback", "is %q; it must be an https:// address or a mailto: one", d.Feedback)
		}
	}
}

// Unprotected reports whether a site's password and files travel over a network where others can read them.
func (d *Destination) Unprotected() bool {
	if d.site == nil {
		return false
	}
	by, _ := protocol.Find(d.site.Scheme)
	return by.Instead != "" && !loopback(d.site.Hostname())
}

// PageKey is how the password of a destination's page is kept with the keys, without itself.
func (d *Destination) PageKey() keys.Key { return keys.Key{Name: d.Name + " password", Host: d.Host()} }

// PagePassword is the password of a destination's page, as it is kept; "" for none.
func (d *Destination) PagePassword() string {
	k := d.PageKey()
	word, _, err := keys.Open().Find(k.Name, k.Host)
	if err != nil {
		return "" // then the page doesn't open, which is said
	}
	return word
}

// Ends is when a site's page stops showing the game; zero for never.
func (d *Destination) Ends() time.Time { return d.ends }

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

// Sites lists the ways to write a site's address.
func Sites() string {
	var list []string
	for _, p := range protocol.All() {
		if p.Written != "" {
			list = append(list, p.Written)
		}
	}
	return strings.Join(list, ", ")
}
