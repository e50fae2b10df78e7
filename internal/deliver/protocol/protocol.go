// Package protocol lists the ways to reach a site, each in one place: how its addresses are written, and what opens it. A new one is a
// package beside deliver/site's drivers, with a test that calls sitetest.Conforms, and a line here.
package protocol

import (
	"context"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"havvel/internal/deliver/site"
	"havvel/internal/deliver/site/folder"
	"havvel/internal/deliver/site/ftp"
	"havvel/internal/deliver/site/objects"
	"havvel/internal/deliver/site/sftp"
	"havvel/internal/deliver/site/webdav"
	"havvel/internal/fault"
)

// A Protocol is a way to reach a site.
type Protocol struct {
	Scheme  string // of addresses
	Written string // how an address is written, for help; "" for what nobody need know of
	Instead string // what to use on a network, where what travels is not protected; "" where it is
	Bucket  bool   // the address begins with a bucket
	Open    func(ctx context.Context, at Place) (site.Store, error)
}

// A Place is a site that is to be opened.
type Place struct {
	Name     string // the destination's
	Address  *url.URL
	Secret   string // password, passphrase of a private key, or key pair; "" for none
	Identity string // path of a private key for SSH; "" for the agent's and the user's own
	HostKey  string // fingerprint of the host's key for SSH; "" for what known_hosts says
	Region   string // of a bucket; "" for what the store says

	BucketInHost bool // the bucket is part of the host's name, and not of the path
}

// All lists the ways to reach a site.
func All() []Protocol {
	return []Protocol{
		{Scheme: "sftp", Written: "sftp://user@host/folder", Open: openSFTP},
		{Scheme: "ftp", Written: "ftp://", Open: openFTP(ftp.Explicit)},
		{Scheme: "ftps", Written: "ftps://", Open: openFTP(ftp.Implicit)},
		{Scheme: "ftp-plain", Instead: "ftp:// (which asks for TLS) or sftp://", Open: openFTP(ftp.Plain)},
		{Scheme: "davs", Written: "davs://", Open: openWebDAV("https")},
		{Scheme: "dav", Instead: "davs://", Open: openWebDAV("http")},
		{Scheme: "s3+https", Written: "s3+https://host/bucket/folder", Bucket: true, Open: openObjects},
		{Scheme: "s3+http", Instead: "s3+https://", Bucket: true, Open: openObjects},
		{Scheme: "file", Written: "or a folder such as ../public", Open: openFolder},
	}
}

// Find returns the protocol of a scheme.
func Find(scheme string) (Protocol, bool) {
	for _, p := range All() {
		if p.Scheme == scheme {
			return p, true
		}
	}
	return Protocol{}, false
}

func openFolder(_ context.Context, at Place) (site.Store, error) {
	return folder.Open(filepath.FromSlash(at.Address.Path))
}

func openSFTP(ctx context.Context, at Place) (site.Store, error) {
	return sftp.Open(ctx, at.Address.Host, at.Address.Path,
		sftp.Login{User: at.user(), Identity: at.identity(), Secret: at.Secret, HostKey: at.HostKey})
}

func openFTP(security ftp.Security) func(context.Context, Place) (site.Store, error) {
	return func(ctx context.Context, at Place) (site.Store, error) {
		return ftp.Open(ctx, at.Address.Host, at.Address.Path, at.user(), at.Secret, security)
	}
}

func openWebDAV(scheme string) func(context.Context, Place) (site.Store, error) {
	return func(ctx context.Context, at Place) (site.Store, error) {
		address := *at.Address
		address.Scheme = scheme
		return webdav.Open(ctx, &address, at.Address.User.Username(), at.Secret)
	}
}

func openObjects(ctx context.Context, at Place) (site.Store, error) {
	address := *at.Address
	address.Scheme = strings.TrimPrefix(address.Scheme, "s3+")
	id, rest, ok := strings.Cut(at.Secret, ":")
	if !ok {
		return nil, fault.New(fault.Here, "%s needs a key pair, written as ID:SECRET, or ID:SECRET:TOKEN for a session", at.Name).
			Then("havvel keys set %s", at.Name)
	}
	key, token, _ := strings.Cut(rest, ":")
	return objects.Open(ctx, &address, objects.Login{ID: id, Secret: key, Token: token, Region: at.Region, InHost: at.BucketInHost})
}

// user is the one in the address, or the one who runs Havvel.
func (at Place) user() string {
	if name := at.Address.User.Username(); name != "" {
		return name
	}
	if me, err := user.Current(); err == nil {
		return me.Username
	}
	return ""
}

func (at Place) identity() string {
	if rest, ok := strings.CutPrefix(at.Identity, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return at.Identity
}
