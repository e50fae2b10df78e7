//go:build unix

package tests

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// others are servers of other makers than those that most tests run on, each with its own ways.
var others = map[string]func(testing.TB) *machine{
	"dropbear":           dropbear,
	"pure-ftpd":          pureFTP,
	"rclone sftp":        func(t testing.TB) *machine { return rclone(t, "sftp") },
	"rclone webdav":      func(t testing.TB) *machine { return rclone(t, "webdav") },
	"lighttpd webdav":    lighttpdDAV,
	"nginx with dav-ext": nginxDAV,
	"a folder of another": func(t testing.TB) *machine {
		at := filepath.Join(t.TempDir(), "lane")
		return &machine{address: at, root: at}
	},
}

// known makes a home in which the host of an SSH server is known, and returns the file of the host's key.
func known(t testing.TB, h *machine) (key string) {
	home := t.TempDir()
	key = filepath.Join(home, "host")
	if out, err := exec.Command(partner(t, "ssh-keygen"), "-q", "-t", "rsa", "-m", "PEM", "-N", "", "-f", key).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	public, err := os.ReadFile(key + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(home, ".ssh", "known_hosts"), fmt.Sprintf("[127.0.0.1]:%s %s", h.port, public))
	h.env = []string{"HOME=" + home, "SSH_AUTH_SOCK=", "SHED_KEY=" + guestPassword}
	return key
}

func dropbear(t testing.TB) *machine {
	program := partner(t, "dropbear")
	root(t)
	h := &machine{root: guestFolder(t), port: freePort(t)}
	key := known(t, h)
	bear := key + ".dropbear"
	if out, err := exec.Command(partner(t, "dropbearconvert"), "openssh", "dropbear", key, bear).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	h.address = fmt.Sprintf("sftp://%s@127.0.0.1:%s%s", guest, h.port, h.root)
	h.serving(t, nil, program, "-F", "-E", "-p", "127.0.0.1:"+h.port, "-r", bear, "-P", key+".pid")
	return h
}

func rclone(t testing.TB, protocol string) *machine {
	program := partner(t, "rclone")
	disk := t.TempDir()
	h := &machine{root: filepath.Join(disk, "lane"), port: freePort(t)}
	args := []string{"serve", protocol, "--addr", "127.0.0.1:" + h.port, "--user", "moth", "--pass", guestPassword, "--vfs-cache-mode", "off"}
	if protocol == "sftp" {
		args = append(args, "--key", known(t, h))
		h.address = fmt.Sprintf("sftp://moth@127.0.0.1:%s/lane", h.port)
	} else {
		h.address, h.env = fmt.Sprintf("dav://moth@127.0.0.1:%s/lane", h.port), []string{"SHED_KEY=" + guestPassword}
	}
	h.serving(t, []string{"HOME=" + disk}, program, append(args, disk)...)
	return h
}

// pureFTP lets two connections in.
func pureFTP(t testing.TB) *machine {
	program := partner(t, "pure-ftpd")
	root(t)
	h := &machine{root: guestFolder(t), port: freePort(t)}
	etc := t.TempDir()
	cert, key := certificate(t, etc)
	one, _ := os.ReadFile(cert)
	two, _ := os.ReadFile(key)
	both := put(t, filepath.Join(etc, "both.pem"), string(two)+string(one))
	h.address = fmt.Sprintf("ftp://%s@127.0.0.1:%s%s", guest, h.port, h.root)
	h.env = []string{"SSL_CERT_FILE=" + cert, "SHED_KEY=" + guestPassword}
	h.serving(t, nil, program, "-S", "127.0.0.1,"+h.port, "-C", "2", "-c", "50", "-Y", "2", "-2", both, "-E", "-l", "unix", "-g", filepath.Join(etc, "pid"))
	return h
}

func lighttpdDAV(t testing.TB) *machine {
	program := partner(t, "lighttpd")
	disk, etc := t.TempDir(), t.TempDir()
	h := &machine{root: filepath.Join(disk, "lane"), port: freePort(t)}
	users := put(t, filepath.Join(etc, "users"), "moth:"+guestPassword+"\n")
	config := put(t, filepath.Join(etc, "lighttpd.conf"), fmt.Sprintf(`server.modules += ( "mod_auth", "mod_authn_file", "mod_webdav" )
server.document-root = %q
server.port = %s
server.bind = "127.0.0.1"
server.errorlog = "%s/log"
auth.backend = "plain"
auth.backend.plain.userfile = %q
auth.require = ( "" => ( "method" => "basic", "realm" => "lane", "require" => "valid-user" ) )
webdav.activate = "enable"
webdav.sqlite-db-name = "%s/locks"
`, disk, h.port, etc, users, etc))
	h.address, h.env = fmt.Sprintf("dav://moth@127.0.0.1:%s/lane", h.port), []string{"SHED_KEY=" + guestPassword}
	h.serving(t, nil, program, "-D", "-f", config)
	return h
}

func nginxDAV(t testing.TB) *machine {
	program := partner(t, "nginx")
	disk, etc := t.TempDir(), t.TempDir()
	h := &machine{root: filepath.Join(disk, "lane"), port: freePort(t)}
	users := put(t, filepath.Join(etc, "users"), "moth:{PLAIN}"+guestPassword+"\n")
	config := put(t, filepath.Join(etc, "nginx.conf"), fmt.Sprintf(`load_module /usr/lib/nginx/modules/ngx_http_dav_ext_module.so;
user root; daemon off; pid %s/pid; error_log stderr; worker_processes 1;
events { }
http { access_log off; client_body_temp_path %s/body; proxy_temp_path %s/p; fastcgi_temp_path %s/f; uwsgi_temp_path %s/u; scgi_temp_path %s/s;
client_max_body_size 0; dav_ext_lock_zone zone=lane:1m;
server { listen 127.0.0.1:%s; root %s; location / { auth_basic lane; auth_basic_user_file %s; create_full_put_path on;
dav_methods PUT DELETE MKCOL COPY MOVE; dav_ext_methods PROPFIND OPTIONS LOCK UNLOCK; dav_ext_lock zone=lane; } } }`,
		etc, etc, etc, etc, etc, etc, h.port, disk, users))
	h.address, h.env = fmt.Sprintf("dav://moth@127.0.0.1:%s/lane", h.port), []string{"SHED_KEY=" + guestPassword}
	h.serving(t, nil, program, "-c", config)
	return h
}

// TestOtherServers: ten versions, with switches and ways back, on servers of other makers.
func TestOtherServers(t *testing.T) {
	for name, open := range others {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := open(t)
			web := httptest.NewServer(http.FileServer(http.Dir(h.root)))
			defer web.Close()
			p := siteProject(t, h, web.URL, "keep_for = \"1ms\"\n")
			if strings.HasPrefix(h.address, "sftp") { // with a password
				edit(t, p, "[to.shed]", "[to.shed]\nkey = \"env:SHED_KEY\"")
			}
			hv := func(args ...string) ending { return runWith(t, p, h.env, args...) }
			for n := range 10 {
				if n > 0 {
					raise(t, p, fmt.Sprintf("0.4.%d\"", n-1), fmt.Sprintf("0.4.%d\"", n))
				}
				hv("send", "--no-proof").must(t, 0)
				hv("publish").must(t, 0, fmt.Sprintf("0.4.%d is public", n), "all as sent")
				if n%3 == 2 {
					hv("back").must(t, 0, fmt.Sprintf("0.4.%d is public on shed, instead of 0.4.%d", n-1, n))
					hv("back", fmt.Sprintf("0.4.%d", n)).must(t, 0)
				}
			}
			hv("where", "--live").must(t, 0, "0.4.9    public", "all as sent")
			if left, _ := filepath.Glob(filepath.Join(h.root, "versions", "*", "havvel-files.json")); len(left) != 3 {
				t.Errorf("%d versions are left: %v", len(left), left)
			}
		})
	}
}

// TestSiteSettings: what can't be found out about a host is set: its key, how many files travel at once, and that nothing protects them.
func TestSiteSettings(t *testing.T) {
	t.Run("a host key", func(t *testing.T) {
		t.Parallel()
		h := openSSH(t)
		known := filepath.Join(strings.TrimPrefix(h.env[0], "HOME="), ".ssh", "known_hosts")
		out, err := exec.Command(partner(t, "ssh-keygen"), "-lf", known).Output()
		if err != nil {
			t.Fatal(err)
		}
		key := strings.Fields(string(out))[1]
		if err := os.Remove(known); err != nil {
			t.Fatal(err)
		}
		p := siteProject(t, h, "", "lanes = 1\n")
		runWith(t, p, h.env, "send", "--no-proof").must(t, 1, "does not know its key yet")
		edit(t, p, "lanes = 1", "lanes = 1\nhost_key = \"SHA256:"+strings.Repeat("A", 43)+"\"")
		runWith(t, p, h.env, "send", "--no-proof").must(t, 1, "its key is "+key, "host_key")
		edit(t, p, "SHA256:"+strings.Repeat("A", 43), key)
		runWith(t, p, h.env, "send", "--no-proof").must(t, 0, "sent 0.4.0")
		edit(t, p, key, "12:34")
		runWith(t, p, h.env, "where").must(t, 2, "host_key", "ssh-keygen -l")
	})
	t.Run("a certificate", func(t *testing.T) {
		t.Parallel()
		h := implicitFTP(t)
		cert := strings.TrimPrefix(h.env[0], "SSL_CERT_FILE=")
		out, err := exec.Command(partner(t, "openssl"), "x509", "-sha256", "-fingerprint", "-noout", "-in", cert).Output()
		if err != nil {
			t.Fatal(err)
		}
		_, print, _ := strings.Cut(strings.TrimSpace(string(out)), "=")
		p := siteProject(t, h, "", "keep_for = \"1ms\"\n")
		env := []string{"SHED_KEY=" + guestPassword} // nobody vouches for it
		runWith(t, p, env, "send", "--no-proof").must(t, 1, "its certificate is not valid", print, "certificate in havvel.toml")
		edit(t, p, "keep_for", "certificate = \"11"+print[2:]+"\"\nkeep_for")
		runWith(t, p, env, "send", "--no-proof").must(t, 1, "another one than you named", print)
		edit(t, p, "\"11"+print[2:], "\""+print)
		edit(t, p, "keep_for", "data_host = \"127.0.0.1\"\nkeep_for")
		runWith(t, p, env, "send", "--no-proof").must(t, 0, "sent 0.4.0")
		edit(t, p, print, "12:34")
		runWith(t, p, env, "where").must(t, 2, "certificate", "openssl x509")
	})
	t.Run("a mode", func(t *testing.T) {
		t.Parallel()
		h := openSSH(t)
		p := siteProject(t, h, "", "mode = \"640\"\n")
		runWith(t, p, h.env, "send", "--no-proof").must(t, 0)
		runWith(t, p, h.env, "publish").must(t, 0)
		filepath.Walk(h.root, func(name string, info os.FileInfo, err error) error {
			if want := map[bool]os.FileMode{true: 0o750, false: 0o640}[info.IsDir()]; name != h.root && info.Mode().Perm() != want {
				t.Errorf("%s has mode %o", name, info.Mode().Perm())
			}
			return err
		})
		edit(t, p, "mode = \"640\"", "mode = \"rw-r--\"")
		runWith(t, p, h.env, "where").must(t, 2, "mode", "chmod")
		edit(t, p, "mode = \"rw-r--\"", "certificate = \"12\"")
		runWith(t, p, h.env, "where").must(t, 2, "certificate is only for sites at ftp://, ftps://, davs:// and s3+https://")
	})
	t.Run("insecure", func(t *testing.T) {
		t.Parallel()
		own := ""
		addresses, _ := net.InterfaceAddrs()
		for _, a := range addresses {
			if ip, ok := a.(*net.IPNet); ok && !ip.IP.IsLoopback() && ip.IP.To4() != nil {
				own = ip.IP.String()
			}
		}
		if own == "" {
			t.Skip("skipped: this machine has no address but the loopback's")
		}
		h := rclone(t, "webdav")
		relay, err := net.Listen("tcp", own+":0")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { relay.Close() })
		go func() {
			for {
				c, err := relay.Accept()
				if err != nil {
					return
				}
				far, err := net.Dial("tcp", "127.0.0.1:"+h.port)
				if err != nil {
					c.Close()
					continue
				}
				go func() { io.Copy(far, c); far.Close() }()
				go func() { io.Copy(c, far); c.Close() }()
			}
		}()
		h.address = strings.Replace(h.address, "127.0.0.1:"+h.port, relay.Addr().String(), 1)
		p := siteProject(t, h, "", "keep_for = \"1ms\"\n")
		runWith(t, p, h.env, "send", "--no-proof").must(t, 2, "the password would be readable on the way", "insecure = true")
		edit(t, p, "keep_for", "insecure = true\nkeep_for")
		runWith(t, p, h.env, "send", "--no-proof").must(t, 0, "can read its password", "sent 0.4.0")
	})
}
