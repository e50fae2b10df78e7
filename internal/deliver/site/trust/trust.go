// Package trust decides whether a host's certificate is believed: one that the system's authorities vouch for, or the very one that the
// user has named.
package trust

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
)

// fingerprintOf is the SHA-256 of a certificate, in hex with colons.
func fingerprintOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return strings.ReplaceAll(fmt.Sprintf("% X", sum), " ", ":")
}

// Valid reports whether a text is a fingerprint: 32 bytes in hex, with or without colons.
func Valid(fingerprint string) bool {
	plain := plainly(fingerprint)
	return len(plain) == 2*sha256.Size && strings.Trim(plain, "0123456789abcdef") == ""
}

func plainly(fingerprint string) string {
	return strings.ToLower(strings.ReplaceAll(fingerprint, ":", ""))
}

// Other says that a host's certificate is not the one that the user has named.
type Other struct{ Is string }

func (e *Other) Error() string { return "its certificate is another one than you named: " + e.Is }

// TLS believes the certificate with a fingerprint; with "", those that the system's authorities vouch for.
func TLS(fingerprint string) *tls.Config {
	c := &tls.Config{MinVersion: tls.VersionTLS12}
	if fingerprint != "" {
		c.InsecureSkipVerify = true // VerifyConnection does it
		c.VerifyConnection = func(s tls.ConnectionState) error {
			if is := fingerprintOf(s.PeerCertificates[0]); plainly(is) != plainly(fingerprint) {
				return &Other{is}
			}
			return nil
		}
	}
	return c
}

// Doubt is why a connection failed, and what to do, where its certificate is the reason.
func Doubt(err error) (why, next string, doubted bool) {
	var other *Other
	var bad *tls.CertificateVerificationError
	switch {
	case errors.As(err, &other):
		next = "ask the people who run the host; if it changed its certificate, put this fingerprint under certificate in havvel.toml"
		return other.Error(), next, true
	case errors.As(err, &bad):
		next = "is this the right host? ask the people who run it"
		if len(bad.UnverifiedCertificates) > 0 {
			next += "; if its fingerprint is " + fingerprintOf(bad.UnverifiedCertificates[0]) + ", certificate in havvel.toml can name that"
		}
		return "its certificate is not valid: " + bad.Err.Error(), next, true
	}
	return "", "", false
}
