package rulebook

import (
	"havvel/internal/rulebook/expression"
	"havvel/internal/settings"
)

// A Login is how one logs in by a standard. What it yields is kept for as long as it is valid, and renewed by itself.
type Login struct {
	// client-credentials and device (OAuth 2.0: RFC 6749, RFC 8628) give a {token}; digest (RFC 7616), aws (Signature Version 4) and
	// signature (RFC 9421) sign each request with the key, as ID:SECRET; certificate shows a client certificate, and the key is the path
	// of a PEM file that holds it and its private key
	By     string          `toml:"by"`
	Token  expression.Text `toml:"token"`  // the address that hands out tokens
	Device expression.Text `toml:"device"` // with device: the address where the waiting begins
	Scope  string          `toml:"scope"`  // what the token is to allow
	// more fields of the request for a token
	Fields  map[string]expression.Text `toml:"fields"`
	Region  string                     `toml:"region"`  // with aws
	Service string                     `toml:"service"` // with aws
	// with signature: what is signed, in the words of RFC 9421; default: @method, @target-uri, and content-digest where there is a body
	Covers []string `toml:"covers"`
}

// logins are the standards.
var logins = []string{"client-credentials", "device", "digest", "aws", "signature", "certificate"}

// Tokens reports whether it gives a token.
func (l *Login) Tokens() bool { return l != nil && (l.By == "client-credentials" || l.By == "device") }

// Signs reports whether each request is signed with the key.
func (l *Login) Signs() bool { return l != nil && !l.Tokens() }

func (l *Login) verify(d *settings.Document, known names) {
	if !d.Must("login.by", l.By) {
		return
	}
	d.Within("login.by", l.By, logins...)
	if l.Tokens() {
		d.Must("login.token", l.Token.String())
	}
	if l.By == "device" {
		d.Must("login.device", l.Device.String())
	}
	if l.By == "aws" {
		d.Must("login.region", l.Region)
		d.Must("login.service", l.Service)
	}
	list := append(texts("login.token", l.Token), texts("login.device", l.Device)...)
	for name, v := range l.Fields {
		list = append(list, texts("login.fields."+name, v)...)
	}
	for _, x := range list {
		verifyFormula(d, x.path, x.formula, known, nil)
	}
}
