package sftp

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"havvel/internal/deliver/site"
	"havvel/internal/fault"
)

// A Login says who we are. What is tried, in this order: the key file, the agent, the user's own key files, the password.
type Login struct {
	User     string
	Identity string      // path of a key file; "" for the agent and the user's own
	Secret   string      // password, or passphrase of the key file; "" for none
	HostKey  string      // fingerprint of the host's key (SHA256:…); "" for what known_hosts says
	Mode     fs.FileMode // of files; 0 for what this user's files have, and readable for a web server
}

// BadKey says that a key file can't be used.
type BadKey struct {
	Path  string
	Why   string
	Cause error
}

func (e *BadKey) Error() string { return fmt.Sprintf("the key file %s %s", e.Path, e.Why) }
func (e *BadKey) Unwrap() error { return e.Cause }

// Fault tells it.
func (e *BadKey) Fault() *fault.Error { return fault.Tell(e, fault.Usage, "") }

func (l Login) config(host string) (*ssh.ClientConfig, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return nil, err
	}
	check, err := l.check(home)
	if err != nil {
		return nil, err
	}
	methods, err := l.methods(home)
	if err != nil {
		return nil, err
	}
	return &ssh.ClientConfig{
		User:              l.User,
		Auth:              methods,
		HostKeyCallback:   check,
		HostKeyAlgorithms: algorithms(check, host),
		Timeout:           dialLimit,
	}, nil
}

// check looks at a host's key: whether it is the one that was named, or one of those in known_hosts.
func (l Login) check(home string) (ssh.HostKeyCallback, error) {
	if l.HostKey != "" {
		return func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if is := ssh.FingerprintSHA256(key); is != l.HostKey {
				return &otherKey{is}
			}
			return nil
		}, nil
	}
	known := filepath.Join(home, ".ssh", "known_hosts")
	check, err := knownhosts.New(known)
	if errors.Is(err, os.ErrNotExist) {
		return func(string, net.Addr, ssh.PublicKey) error { return &knownhosts.KeyError{} }, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", known, err)
	}
	return check, nil
}

// otherKey says that a host has another key than was named.
type otherKey struct{ is string }

func (e *otherKey) Error() string { return "the host's key is " + e.is }

// algorithms are those of the host's known keys, so that it shows one of them; nil when there is none.
func algorithms(check ssh.HostKeyCallback, host string) []string {
	if _, _, err := net.SplitHostPort(host); err != nil {
		host = net.JoinHostPort(host, "22")
	}
	var e *knownhosts.KeyError
	if !errors.As(check(host, &net.TCPAddr{}, noKey{}), &e) {
		return nil
	}
	var list []string
	for _, k := range e.Want {
		if t := k.Key.Type(); t == ssh.KeyAlgoRSA {
			list = append(list, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			list = append(list, t)
		}
	}
	return list
}

// noKey is a key that no host has.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

func (l Login) methods(home string) ([]ssh.AuthMethod, error) {
	var signers []ssh.Signer
	if l.Identity != "" {
		signer, err := l.signer(l.Identity)
		if err != nil {
			return nil, err
		}
		signers = append(signers, signer)
	} else {
		if socket := os.Getenv("SSH_AUTH_SOCK"); socket != "" {
			if conn, err := net.DialTimeout("unix", socket, time.Second); err == nil {
				if list, err := agent.NewClient(conn).Signers(); err == nil {
					signers = append(signers, list...)
				}
			}
		}
		for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			if signer, err := l.signer(filepath.Join(home, ".ssh", name)); err == nil { // those that can't be read were not asked for
				signers = append(signers, signer)
			}
		}
	}
	var methods []ssh.AuthMethod
	if len(signers) > 0 {
		methods = append(methods, ssh.PublicKeys(signers...))
	}
	if l.Secret != "" {
		methods = append(
			methods,
			ssh.Password(l.Secret),
			ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
				answers := make([]string, len(questions))
				for i := range answers {
					answers[i] = l.Secret
				}
				return answers, nil
			}),
		)
	}
	return methods, nil
}

func (l Login) signer(path string) (ssh.Signer, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, &BadKey{path, "can't be read: " + err.Error(), err}
	}
	signer, err := ssh.ParsePrivateKey(data)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		if l.Secret == "" {
			return nil, &BadKey{path, "has a passphrase; set it as the destination's key", err}
		}
		if signer, err = ssh.ParsePrivateKeyWithPassphrase(data, []byte(l.Secret)); err != nil {
			return nil, &BadKey{path, "does not open with the passphrase that is set", err}
		}
	}
	if err != nil {
		return nil, &BadKey{path, "is no private key", err}
	}
	return signer, nil
}

// refused says why a host refused the log-in, or why we did not trust it.
func (l Login) refused(host string, err error) error {
	var key *knownhosts.KeyError
	var revoked *knownhosts.RevokedError
	var other *otherKey
	switch {
	case errors.As(err, &other):
		return &site.Refused{
			Host:  host,
			Why:   "its key is " + other.is + ", and not the host_key in havvel.toml; somebody may be in between",
			Next:  "ask the people who run the host whether it has a new key or one of another kind, and only then change havvel.toml",
			Cause: err,
		}
	case errors.As(err, &revoked):
		return &site.Refused{Host: host, Why: "its key is marked as revoked in known_hosts", Next: "ask the people who run the host", Cause: err}
	case errors.As(err, &key) && len(key.Want) > 0:
		return &site.Refused{
			Host:  host,
			Why:   "its key is not the one in known_hosts; somebody may be in between",
			Next:  "ask the people who run the host whether it has a new key, and only then change ~/.ssh/known_hosts",
			Cause: err,
		}
	case errors.As(err, &key):
		return &site.Refused{
			Host:  host,
			Why:   "this machine does not know its key yet",
			Next:  "connect once with ssh, compare the key with what the host's owner says, and accept it",
			Cause: err,
		}
	case strings.Contains(err.Error(), "unable to authenticate"),
		strings.Contains(err.Error(), "unexpected message type 51"): // a failure (RFC 4252 section 5.1) where the library expects a question
		return &site.Refused{
			Host:  host,
			Why:   fmt.Sprintf("it does not let %q in", l.User),
			Next:  "check user, key file and password: havvel keys set stores a password or passphrase",
			Cause: err,
		}
	}
	return &site.Unreachable{Host: host, Cause: err}
}
