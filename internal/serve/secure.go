package serve

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"html/template"
	"math/big"
	"net"
	"strings"
	"time"

	"rsc.io/qr"
)

// certificate makes one for this machine's own address, for a day. Nobody vouches for it, so browsers warn once.
func certificate(address string) (tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("making a certificate: %w", err)
	}
	number, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 100))
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("making a certificate: %w", err)
	}
	form := &x509.Certificate{
		SerialNumber: number, Subject: pkix.Name{CommonName: "havvel play on this network"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		IPAddresses: []net.IP{net.ParseIP(address), net.IPv4(127, 0, 0, 1)}, DNSNames: []string{"localhost"},
	}
	data, err := x509.CreateCertificate(rand.Reader, form, form, &key.PublicKey, key)
	if err != nil {
		return tls.Certificate{}, fmt.Errorf("making a certificate: %w", err)
	}
	return tls.Certificate{Certificate: [][]byte{data}, PrivateKey: key}, nil
}

// drawing is an address as a code that phones read, in SVG.
func drawing(address string) (template.HTML, error) {
	code, err := qr.Encode(address, qr.M)
	if err != nil {
		return "", fmt.Errorf("drawing the address: %w", err)
	}
	var b strings.Builder
	side := code.Size + 8 // a margin of four, which the code's standard asks for
	fmt.Fprintf(&b, `<svg viewBox="0 0 %d %d" role="img" aria-label="the address as a code"><path fill="#fff" d="M0 0h%dv%dH0z"/><path d="`,
		side, side, side, side)
	for y := range code.Size {
		for x := range code.Size {
			if code.Black(x, y) {
				fmt.Fprintf(&b, "M%d %dh1v1h-1z", x+4, y+4)
			}
		}
	}
	b.WriteString(`"/></svg>`)
	return template.HTML(b.String()), nil // numbers only
}
