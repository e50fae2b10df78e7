package sftp

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"

	server "github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"havvel/internal/deliver/site/sitetest"
)

func newKey(t *testing.T) ssh.Signer {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// host keeps a folder by SFTP; asked says how often somebody brought a password.
func host(t *testing.T, key ssh.Signer) (address string, asked *int) {
	asked = new(int)
	config := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		*asked++
		if c.User() != "moth" || string(password) != "wick-and-oil" {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	config.AddHostKey(key)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c, config)
		}
	}()
	return l.Addr().String(), asked
}

func serve(c net.Conn, config *ssh.ServerConfig) {
	_, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for wanted := range channels {
		channel, requests, err := wanted.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				r.Reply(r.Type == "subsystem", nil)
			}
		}()
		go func() {
			s, err := server.NewServer(channel)
			if err == nil {
				s.Serve()
			}
			channel.Close()
		}()
	}
}

// knows writes the user's list of known hosts.
func knows(t *testing.T, address string, key ssh.PublicKey) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("SSH_AUTH_SOCK", "")
	if err := os.Mkdir(filepath.Join(home, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	line := ""
	if key != nil {
		line = knownhosts.Line([]string{knownhosts.Normalize(address)}, key) + "\n"
	}
	if err := os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"), []byte(line), 0o600); err != nil {
		t.Fatal(err)
	}
}

func TestConforms(t *testing.T) {
	key := newKey(t)
	address, _ := host(t, key)
	knows(t, address, key.PublicKey())
	s, err := Open(context.Background(), address, t.TempDir(), Login{User: "moth", Secret: "wick-and-oil"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	sitetest.Conforms(t, s)
}

// TestHostKey: a host with another key than the known one, or with one that is not known, gets no password.
func TestHostKey(t *testing.T) {
	address, asked := host(t, newKey(t))
	for why, known := range map[string]ssh.PublicKey{"not the one in known_hosts": newKey(t).PublicKey(), "does not know its key yet": nil} {
		knows(t, address, known)
		s, err := Open(context.Background(), address, t.TempDir(), Login{User: "moth", Secret: "wick-and-oil"})
		sitetest.Refuses(t, s, err, why)
		if c, ok := s.(io.Closer); ok && s != nil {
			c.Close()
		}
	}
	if *asked > 0 {
		t.Error("a password was sent to a host that is not the known one")
	}
}
