package playhost

import (
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"

	"golang.org/x/net/publicsuffix"
)

// Crossing says what games could do to the interface where both are on one domain; "" where they aren't, or where only this machine is
// asked.
func (h *Host) Crossing() string {
	domain := shares(h.options.ControlURL, strings.Replace(h.options.GamesURL, "*", "game", 1))
	if domain == "" {
		return ""
	}
	return fmt.Sprintf("games and the pages around them share the domain %s, so that a game can set cookies there; they read nothing of each "+
		"other, but a domain of its own for games (--games-url) is safer", domain)
}

// shares is the domain that two addresses have in common, for which the page at one can set cookies that the other gets; "" for none.
func shares(one, other string) string {
	a, b := site(one), site(other)
	if a != b || a == "localhost" {
		return ""
	}
	if ip, err := netip.ParseAddr(a); err == nil && ip.IsLoopback() {
		return ""
	}
	return a
}

// site is an address's domain that somebody can register, or its whole host where there is none.
func site(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	host := strings.ToLower(u.Hostname())
	if net.ParseIP(host) != nil {
		return host
	}
	if domain, err := publicsuffix.EffectiveTLDPlusOne(host); err == nil {
		return domain
	}
	return host
}
