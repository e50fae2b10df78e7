package ftp

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	server "goftp.io/server/v2"
	"goftp.io/server/v2/driver/file"

	"havvel/internal/deliver/site/sitetest"
)

func TestConforms(t *testing.T) {
	files, err := file.NewDriver(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	host, err := server.NewServer(&server.Options{
		Driver: files, Perm: server.NewSimplePerm("moth", "thimble"), Logger: new(server.DiscardLogger), PublicIP: "127.0.0.1",
		Auth: &server.SimpleAuth{Name: "moth", Password: "wick-and-oil"},
	})
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	log.SetOutput(io.Discard) // the server's own
	defer log.SetOutput(os.Stderr)
	go host.Serve(l)
	defer host.Shutdown()
	s, err := Open(context.Background(), l.Addr().String(), "/lane", Login{User: "moth", Password: "wick-and-oil", Security: Plain})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	sitetest.Conforms(t, s)
}

// host speaks as much of FTP (RFC 959, RFC 4217) as is needed until a password would come, and says whether one came.
func host(t *testing.T, security Security) (address string, told func() string) {
	certificates := httptest.NewTLSServer(nil)
	certificates.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	lines := make(chan string, 100)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			secure := func() { c = tls.Server(c, &tls.Config{Certificates: certificates.TLS.Certificates}) }
			if security == Implicit {
				secure()
			}
			go func() {
				defer c.Close()
				fmt.Fprint(c, "220 the lane\r\n")
				r := bufio.NewReader(c)
				for {
					line, err := r.ReadString('\n')
					if err != nil {
						return
					}
					lines <- line
					if strings.HasPrefix(line, "AUTH TLS") {
						fmt.Fprint(c, "234 go on\r\n")
						secure()
						r = bufio.NewReader(c)
						continue
					}
					fmt.Fprint(c, "331 the password?\r\n")
				}
			}()
		}
	}()
	return l.Addr().String(), func() (all string) {
		for len(lines) > 0 {
			all += <-lines
		}
		return all
	}
}

// TestCertificate: a host whose certificate nobody vouches for gets neither user nor password.
func TestCertificate(t *testing.T) {
	for name, security := range map[string]Security{"explicit": Explicit, "implicit": Implicit} {
		t.Run(name, func(t *testing.T) {
			address, told := host(t, security)
			s, err := Open(context.Background(), address, "/lane", Login{User: "moth", Password: "wick-and-oil", Security: security})
			sitetest.Refuses(t, s, err, "certificate")
			if words := told(); strings.Contains(words, "USER") || strings.Contains(words, "PASS") {
				t.Errorf("the host was told %q", words)
			}
		})
	}
}
