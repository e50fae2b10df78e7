// Package neterr says in words why a host could not be reached, or broke off. Whether to try again is left to who asked.
package neterr

import (
	"crypto/tls"
	"errors"
	"io"
	"net"
)

// Nobody reports whether there is nobody to speak to at an address, so that to try again is of no use: nothing answers, its name is not
// known, or nobody vouches for it.
func Nobody(cause error) bool {
	var name *net.DNSError
	var certificate *tls.CertificateVerificationError
	return isOne(cause, refused) || errors.As(cause, &name) || errors.As(cause, &certificate)
}

func isOne(err error, of []error) bool {
	for _, e := range of {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// Why is the reason in words that name no address, which may hold a secret.
func Why(cause error) string {
	var (
		name        *net.DNSError
		certificate *tls.CertificateVerificationError
		timeout     net.Error
		operation   *net.OpError
	)
	switch {
	case isOne(cause, refused):
		return "nothing answers there"
	case errors.As(cause, &name):
		return "its name is not known; is this machine online, and is the address right?"
	case errors.As(cause, &certificate):
		return "its certificate is not valid: " + certificate.Err.Error()
	case errors.As(cause, &timeout) && timeout.Timeout():
		return "no answer in time"
	case errors.Is(cause, io.EOF), errors.Is(cause, io.ErrUnexpectedEOF), errors.Is(cause, net.ErrClosed), isOne(cause, broken):
		return "the connection broke off"
	case errors.As(cause, &operation):
		return "the connection failed: " + operation.Err.Error()
	}
	for errors.Unwrap(cause) != nil {
		cause = errors.Unwrap(cause)
	}
	return cause.Error()
}
