// Package protocol lists the ways to reach a site, each in one place: how its addresses are written, and what opens it. A new one is a
// package beside deliver/site's drivers, with a test that calls sitetest.Conforms, and a line here.
package protocol

import (
	"context"
	"io/fs"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"slices"
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
	Scheme  string   // of addresses
	Written string   // how an address is written, for help; "" for what nobody need know of
	Instead string   // what to use on a network, where what travels is not protected; "" where it is
	Bucket  bool     // the address begins with a bucket
	Keys    []string // settings of a destination that only this and some others know
	Open    func(ctx context.Context, at Place) (site.Store, error)
}

// A Place is a site that is to be opened.
type Place struct {
	Name     string // the destination's
	Address  *url.URL
	Secret   string      // password, passphrase of a private key, or key pair; "" for none
	Identity string      // path of a private key for SSH; "" for the agent's and the user's own
	HostKey  string      // fingerprint of the host's key for SSH; "" for what known_hosts says
	Region   string      // of a bucket; "" for what the store says
	Mode     fs.FileMode // of files; 0 for what a web server needs
	DataHost string      // where FTP's connections for files go; "" for the host itself

	Certificate string // fingerprint of the host's; "" for one that is vouched for

	BucketInHost bool // the bucket is part of the host's name, and not of the path

	Abilities *site.Abilities // what is known of the host; nil for nothing
}

// All lists the ways to reach a site.
func All() []Protocol {
	return []Protocol{
		{Scheme: "sftp", Written: "sftp://user@host/folder", Keys: []string{"identity", "host_key", "mode"}, Open: openSFTP},
		{Scheme: "ftp", Written: "ftp://", Keys: overTLS("data_host"), Open: openFTP(ftp.Explicit)},
		{Scheme: "ftps", Written: "ftps://", Keys: overTLS("data_host"), Open: openFTP(ftp.Implicit)},
		{Scheme: "ftp-plain", Instead: "ftp:// (which asks for TLS) or sftp://", Keys: []string{"data_host"}, Open: openFTP(ftp.Plain)},
		{Scheme: "davs", Written: "davs://", Keys: overTLS(), Open: openWebDAV("https")},
		{Scheme: "dav", Instead: "davs://", Open: openWebDAV("http")},
		{Scheme: "s3+https", Written: "s3+https://host/bucket/folder", Bucket: true,
			Keys: overTLS("region", "bucket_in_host"), Open: openObjects},
		{Scheme: "s3+http", Instead: "s3+https://", Bucket: true, Keys: []string{"region", "bucket_in_host"}, Open: openObjects},
		{Scheme: "file", Written: "or a folder such as ../public", Open: openFolder},
	}
}

func overTLS(keys ...string) []string { return append(keys, "certificate") }

// Knowing are the schemes of those that know a setting.
func Knowing(key string) (schemes []string) {
	for _, p := range All() {
		if slices.Contains(p.Keys, key) {
			schemes = append(schemes, p.Scheme+"://")
		}
	}
	return schemes
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
		sftp.Login{User: at.user(), Identity: at.identity(), Secret: at.Secret, HostKey: at.HostKey, Mode: at.Mode})
}

func openFTP(security ftp.Security) func(context.Context, Place) (site.Store, error) {
	return func(ctx context.Context, at Place) (site.Store, error) {
		return ftp.Open(ctx, at.Address.Host, at.Address.Path, ftp.Login{
			User: at.user(), Password: at.Secret, Security: security, Certificate: at.Certificate, DataHost: at.DataHost,
			Abilities: at.Abilities,
		})
	}
}

func openWebDAV(scheme string) func(context.Context, Place) (site.Store, error) {
	return func(ctx context.Context, at Place) (site.Store, error) {
		address := *at.Address
		address.Scheme = scheme
		return webdav.Open(ctx, &address, at.Address.User.Username(), at.Secret, at.Certificate)
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
	return objects.Open(ctx, &address, objects.Login{ID: id, Secret: key, Token: token, Region: at.Region, InHost: at.BucketInHost,
		Certificate: at.Certificate})
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
