package link

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"hash"
	"io"
	"regexp"
	"strings"
)

// A Digest is the hash of a file as pages and loaders write it, such as "sha384-…" (W3C Subresource Integrity, section 3.1). Browsers
// refuse a script or stylesheet that has another.
type Digest string

var (
	digest = regexp.MustCompile(`\bsha(?:256-[A-Za-z0-9+/]{43}=|384-[A-Za-z0-9+/]{64}|512-[A-Za-z0-9+/]{86}==)`)
	hashes = map[string]func() hash.Hash{"sha256": sha256.New, "sha384": sha512.New384, "sha512": sha512.New}
)

// MaxDigests bounds what is kept of one file.
const MaxDigests = 5000

// Digests lists the hashes that stand in a text.
func Digests(text string) (list []Digest) {
	if len(text) < len("sha256-")+44 ||
		!strings.Contains(text, "sha256-") && !strings.Contains(text, "sha384-") && !strings.Contains(text, "sha512-") {
		return nil // most texts: said before the expression is tried
	}
	for _, d := range digest.FindAllString(text, MaxDigests) {
		list = append(list, Digest(d))
	}
	return list
}

// Kind is the name of the hash: sha256, sha384 or sha512.
func (d Digest) Kind() string {
	kind, _, _ := strings.Cut(string(d), "-")
	return kind
}

// DigestOf is the hash of that kind of all that r gives.
func DigestOf(kind string, r io.Reader) (Digest, error) {
	h := hashes[kind]()
	if _, err := io.Copy(h, r); err != nil {
		return "", err
	}
	return Digest(kind + "-" + base64.StdEncoding.EncodeToString(h.Sum(nil))), nil
}

// Fits reports whether a browser takes a file with this content under the value of an integrity attribute: one of its strongest hashes is
// the file's, or it has none (section 3.3.4).
func Fits(integrity string, open func() (io.ReadCloser, error)) (bool, error) {
	list, strongest := Digests(integrity), ""
	for _, d := range list {
		strongest = max(strongest, d.Kind())
	}
	if len(list) == 0 {
		return true, nil
	}
	r, err := open()
	if err != nil {
		return false, err
	}
	defer r.Close()
	is, err := DigestOf(strongest, r)
	for _, d := range list {
		if d == is {
			return true, err
		}
	}
	return false, err
}
