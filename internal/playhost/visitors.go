package playhost

import (
	"net/http"
	"net/netip"
	"regexp"
	"strings"
)

// visitor is the address that a request comes from. What a request says of it is believed only of a proxy that was named, and only of the
// address next to it: what stands before that anybody can write.
func (o *Options) visitor(r *http.Request) string {
	near, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	at := near.Addr().Unmap()
	said := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(said) - 1; i >= 0 && o.isProxy(at); i-- {
		next, err := netip.ParseAddr(strings.TrimSpace(said[i]))
		if err != nil {
			break
		}
		at = next.Unmap()
	}
	if at.Is6() { // one visitor has a whole network of these
		if p, err := at.Prefix(64); err == nil {
			return p.String()
		}
	}
	return at.String()
}

func (o *Options) isProxy(at netip.Addr) bool {
	for _, p := range o.Proxies {
		if p.Contains(at) {
			return true
		}
	}
	return false
}

var addresses = regexp.MustCompile(`\[[0-9a-fA-F:.%]+\](:\d+)?|` + // IPv6, with a port
	`\b\d{1,3}(\.\d{1,3}){3}(:\d+)?\b|` + // IPv4
	`\b[0-9a-fA-F]{1,4}(:[0-9a-fA-F]{0,4}){3,7}\b`)

// withoutAddresses is a text for the log, which says nothing of who came.
func (h *Host) withoutAddresses(text string) string { return addresses.ReplaceAllString(text, "…") }

// errorLog takes what the HTTP server says of broken connections.
type errorLog struct{ h *Host }

// Write implements io.Writer.
func (l errorLog) Write(line []byte) (int, error) {
	l.h.options.Log.Warn("connection", "error", l.h.withoutAddresses(strings.TrimSpace(string(line))))
	return len(line), nil
}
