package link

import (
	"io"
	"strings"
	"testing"
)

// TestFits: only the strongest hashes count (W3C Subresource Integrity, section 3.3.4).
func TestFits(t *testing.T) {
	const text = "lanterns\n"
	of := func(kind string) string {
		d, err := DigestOf(kind, strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		return string(d)
	}
	other := func(kind string) string {
		d, _ := DigestOf(kind, strings.NewReader("another text"))
		return string(d)
	}
	for integrity, want := range map[string]bool{
		"":                                   true,
		"md5-abc":                            true,
		of("sha256"):                         true,
		of("sha384"):                         true,
		other("sha256"):                      false,
		of("sha256") + " " + other("sha512"): false,
		other("sha256") + " " + of("sha512"): true,
		other("sha384") + " " + of("sha384"): true,
		of("sha256") + " " + of("sha384") + " " + other("sha512"): false,
		other("sha512") + " " + of("sha256"):                      false,
		of("sha512") + " " + other("sha256"):                      true,
		of("sha256") + "?ct=x " + other("sha256"):                 true,
	} {
		got, err := Fits(integrity, func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil })
		if got != want || err != nil {
			t.Errorf("%q: %v (%v), want %v", integrity, got, err, want)
		}
	}
}
