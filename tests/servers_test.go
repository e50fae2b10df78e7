//go:build unix

package tests

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// A machine is a real server that keeps a site.
type machine struct {
	address string   // of the site, for havvel.toml
	root    string   // where the site is on this machine's disk
	env     []string // that the program needs to trust it and to be let in
	port    string
	start   func() // starts it once more, after stop
	stop    func()
}

// machines are the real servers that sites are tested on.
var machines = map[string]func(testing.TB) *machine{
	"sftp":    openSSH,
	"ftp":     veryFTP,
	"ftps":    implicitFTP,
	"webdav":  apache,
	"objects": objectStore,
}

// serving runs a server until the test ends, and waits until it answers.
func (h *machine) serving(t testing.TB, env []string, program string, args ...string) {
	t.Helper()
	var c *exec.Cmd
	var said *bytes.Buffer
	h.start = func() {
		c, said = exec.Command(program, args...), &bytes.Buffer{}
		c.Env = append(os.Environ(), env...)
		c.Stdout, c.Stderr = said, said
		c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		eventually(t, program+" does not answer", func() (any, bool) {
			conn, err := net.DialTimeout("tcp", "127.0.0.1:"+h.port, time.Second)
			if err == nil {
				conn.Close()
			}
			return said, err == nil
		})
	}
	h.stop = func() {
		syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		c.Wait()
	}
	h.start()
	t.Cleanup(func() { h.stop() })
}

// behind puts a relay before the server, under whose address havvel knows it from then on.
func (h *machine) behind(t testing.TB) *relay {
	t.Helper()
	r := newRelay(t, "127.0.0.1:"+h.port)
	h.address = strings.Replace(h.address, "127.0.0.1:"+h.port, r.address, 1)
	if home, ok := strings.CutPrefix(h.env[0], "HOME="); ok { // SSH knows its key by the address
		known := filepath.Join(home, ".ssh", "known_hosts")
		data, err := os.ReadFile(known)
		if err != nil {
			t.Fatal(err)
		}
		put(t, known, strings.Replace(string(data), ":"+h.port, r.address[len("127.0.0.1"):], 1))
	}
	return r
}

// root skips a test unless it runs as root, as servers that change users must.
func root(t testing.TB) {
	t.Helper()
	if os.Geteuid() == 0 {
		return
	}
	if os.Getenv("CI") == "true" {
		t.Fatal("this server changes users, and runs as root only")
	}
	t.Skip("skipped: this server changes users, and runs as root only")
}

// guest is the user, with a password, that scripts/test-partners makes for servers that let users in.
const guest, guestPassword = "havvel-guest", "wick-and-oil"

// guestFolder is a folder of the guest's.
func guestFolder(t testing.TB) string {
	t.Helper()
	u, err := user.Lookup(guest)
	if err != nil && os.Getenv("CI") == "true" {
		t.Fatalf("there is no user %s; scripts/test-partners makes it", guest)
	}
	if err != nil {
		t.Skipf("skipped: there is no user %s (scripts/test-partners makes it, as root)", guest)
	}
	folder, err := os.MkdirTemp(u.HomeDir, "site-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(folder, uid, gid); err != nil {
		t.Fatal(err)
	}
	return folder
}

func put(t testing.TB, name, text string) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

func openSSH(t testing.TB) *machine {
	partner(t, "ssh-keygen")
	program := partner(t, "sshd")
	root(t)
	h := &machine{root: guestFolder(t), port: freePort(t)}
	etc, home := t.TempDir(), t.TempDir()
	os.MkdirAll("/run/sshd", 0o755)
	for _, key := range []string{filepath.Join(etc, "host"), filepath.Join(home, ".ssh", "id_ed25519")} {
		os.MkdirAll(filepath.Dir(key), 0o700)
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	public, err := os.ReadFile(filepath.Join(home, ".ssh", "id_ed25519.pub"))
	if err != nil {
		t.Fatal(err)
	}
	hostKey, err := os.ReadFile(filepath.Join(etc, "host.pub"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(home, ".ssh", "known_hosts"), fmt.Sprintf("[127.0.0.1]:%s %s", h.port, hostKey))
	keys := put(t, filepath.Join(os.TempDir(), "havvel-keys-"+h.port), string(public))
	os.Chmod(keys, 0o644)
	t.Cleanup(func() { os.Remove(keys) })
	config := put(
		t,
		filepath.Join(etc, "sshd_config"),
		fmt.Sprintf(
			"Port %s\nListenAddress 127.0.0.1\nHostKey %s\nAuthorizedKeysFile %s\nStrictModes no\nUsePAM no\nPasswordAuthentication "+
				"yes\nPidFile none\nMaxStartups 50\nSubsystem sftp internal-sftp\n",
			h.port,
			filepath.Join(etc, "host"),
			keys,
		),
	)
	h.address = fmt.Sprintf("sftp://%s@127.0.0.1:%s%s", guest, h.port, h.root)
	h.env = []string{"HOME=" + home, "SSH_AUTH_SOCK="}
	h.serving(t, nil, program, "-D", "-e", "-f", config)
	return h
}

// certificate makes a certificate for this machine, and returns the files of it and of its key.
func certificate(t testing.TB, folder string) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(
			1,
		), Subject: pkix.Name{CommonName: "shed.example"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{
			net.IPv4(127, 0, 0, 1),
		}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &k.PublicKey, k)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return put(t, filepath.Join(folder, "cert.pem"), string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))),
		put(t, filepath.Join(folder, "key.pem"), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})))
}

func veryFTP(t testing.TB) *machine { return vsftpd(t, "ftp", "implicit_ssl=NO") }

func implicitFTP(t testing.TB) *machine { return vsftpd(t, "ftps", "implicit_ssl=YES") }

func vsftpd(t testing.TB, scheme, more string) *machine {
	program := partner(t, "vsftpd")
	root(t)
	h := &machine{root: guestFolder(t), port: freePort(t)}
	etc := t.TempDir()
	cert, key := certificate(t, etc)
	os.MkdirAll("/var/run/vsftpd/empty", 0o755)
	config := put(t, filepath.Join(etc, "vsftpd.conf"), strings.Join([]string{
		"listen=YES", "listen_address=127.0.0.1", "listen_port=" + h.port, "background=NO", "anonymous_enable=NO", "local_enable=YES",
		"write_enable=YES", "local_umask=022",
		"seccomp_sandbox=NO", "pam_service_name=vsftpd", "ssl_enable=YES", "force_local_logins_ssl=YES", "force_local_data_ssl=YES",
		"require_ssl_reuse=YES", "ssl_ciphers=HIGH",
		"rsa_cert_file=" + cert, "rsa_private_key_file=" + key, "pasv_enable=YES", "isolate_network=NO", more, "",
	}, "\n"))
	h.address = fmt.Sprintf(scheme+"://%s@127.0.0.1:%s%s", guest, h.port, h.root)
	h.env = []string{"SSL_CERT_FILE=" + cert, "SHED_KEY=" + guestPassword}
	h.serving(t, nil, program, config)
	return h
}

func apache(t testing.TB) *machine {
	program := partner(t, "apache2")
	root(t)
	folder := guestFolder(t)
	h := &machine{root: filepath.Join(folder, "lane"), port: freePort(t)}
	etc := t.TempDir()
	os.Chmod(etc, 0o777)
	password := put(t, filepath.Join(folder, ".password"), "moth:{SHA}"+guestSum+"\n")
	os.Chmod(password, 0o644)
	var modules strings.Builder
	for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "dav", "dav_fs", "mime"} {
		fmt.Fprintf(&modules, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	config := put(t, filepath.Join(etc, "apache.conf"), fmt.Sprintf(`ServerName 127.0.0.1
Listen 127.0.0.1:%s
PidFile %s/pid
ErrorLog %s/log
User %s
Group %s
%sTypesConfig /etc/mime.types
DocumentRoot %s
DavLockDB %s/.locks
<Directory %s>
Dav On
AuthType Basic
AuthName lane
AuthUserFile %s
Require valid-user
</Directory>
`, h.port, etc, etc, guest, guest, modules.String(), folder, folder, folder, password))
	h.address = fmt.Sprintf("dav://moth@127.0.0.1:%s/lane", h.port)
	h.env = []string{"SHED_KEY=" + guestPassword}
	h.serving(t, nil, program, "-X", "-f", config)
	t.Cleanup(func() {
		if log, err := os.ReadFile(filepath.Join(etc, "log")); err == nil && t.Failed() {
			t.Logf("%s", log)
		}
	})
	return h
}

// guestSum is the SHA-1 of guestPassword, as a web server keeps it.
const guestSum = "+g2J92X9IxAe7xque20v0Rs8yaw="

func objectStore(t testing.TB) *machine {
	program := partner(t, "versitygw")
	h := &machine{port: freePort(t)}
	disk := t.TempDir()
	h.root = filepath.Join(disk, "lanes", "tinderwick")
	if err := os.MkdirAll(filepath.Join(disk, "lanes"), 0o755); err != nil {
		t.Fatal(err)
	}
	h.address = fmt.Sprintf("s3+http://127.0.0.1:%s/lanes/tinderwick", h.port)
	h.env = []string{"SHED_KEY=moth:" + guestPassword}
	h.serving(t, nil, program, "--access", "moth", "--secret", guestPassword, "--port", "127.0.0.1:"+h.port, "posix", disk)
	return h
}
