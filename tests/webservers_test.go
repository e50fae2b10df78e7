//go:build unix

package tests

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// A webServer runs one kind of web server for a folder, with lines of configuration where that kind has them.
type webServer func(t *testing.T, h *machine, etc, lines string)

var webServers = map[string]webServer{
	"nginx": func(t *testing.T, h *machine, etc, lines string) {
		config := put(t, filepath.Join(etc, "nginx.conf"), fmt.Sprintf(`user %s %s; daemon off; pid %s/pid; error_log stderr; worker_processes 1;
events { }
http { access_log off; client_body_temp_path %s/body; proxy_temp_path %s/proxy; fastcgi_temp_path %s/f; uwsgi_temp_path %s/u; scgi_temp_path %s/s;
server { listen 127.0.0.1:%s; root %s;
%s} }`, guest, guest, etc, etc, etc, etc, etc, etc, h.port, filepath.Dir(h.root), lines))
		h.serving(t, nil, partner(t, "nginx"), "-c", config)
	},
	"apache": func(t *testing.T, h *machine, etc, lines string) {
		var modules strings.Builder
		for _, m := range []string{"mpm_event", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "mime", "dir", "headers",
			"env", "setenvif"} {
			fmt.Fprintf(&modules, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
		}
		writeInto(t, h.root, game.Files{".htaccess": []byte(lines)})
		config := put(t, filepath.Join(etc, "apache.conf"), fmt.Sprintf("ServerName 127.0.0.1\nListen 127.0.0.1:%s\nPidFile %s/pid\nErrorLog %s/log\n"+
			"User %s\nGroup %s\n%sTypesConfig /etc/mime.types\nDocumentRoot %s\n<Directory %s>\nAllowOverride FileInfo AuthConfig Indexes\n</Directory>\n",
			h.port, etc, etc, guest, guest, modules.String(), filepath.Dir(h.root), h.root))
		h.serving(t, nil, partner(t, "apache2"), "-X", "-f", config)
	},
	"lighttpd": func(t *testing.T, h *machine, etc, lines string) {
		config := put(t, filepath.Join(etc, "lighttpd.conf"), fmt.Sprintf("server.document-root = %q\nserver.port = %s\nserver.bind = \"127.0.0.1\"\n"+
			"server.errorlog = \"%s/log\"\n%s", filepath.Dir(h.root), h.port, etc, lines))
		h.serving(t, nil, partner(t, "lighttpd"), "-D", "-f", config)
	},
	"caddy": func(t *testing.T, h *machine, etc, lines string) {
		config := put(t, filepath.Join(etc, "Caddyfile"), fmt.Sprintf("{\n admin off\n auto_https off\n}\nhttp://127.0.0.1:%s {\n root * %s\n file_server\n%s}\n",
			h.port, filepath.Dir(h.root), lines))
		h.serving(t, []string{"HOME=" + etc, "XDG_DATA_HOME=" + etc, "XDG_CONFIG_HOME=" + etc}, partner(t, "caddy"), "run", "--config", config,
			"--adapter", "caddyfile")
	},
}

// TestHalfLocked: a web server that asks for the password at the page alone, and not below it, shows the game to strangers: it isn't
// published, and players have what they had.
func TestHalfLocked(t *testing.T) {
	t.Parallel()
	at := t.TempDir()
	files := http.FileServer(http.Dir(at))
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, word, _ := r.BasicAuth(); r.URL.Path == "/" && word != guestPassword {
			w.Header().Set("WWW-Authenticate", `Basic realm="lane"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		files.ServeHTTP(w, r)
	}))
	defer web.Close()
	p := siteProject(t, &machine{address: at}, web.URL, "")
	home := []string{"HAVVEL_KEYS=" + filepath.Join(t.TempDir(), "keys.json")}
	runWith(t, p, home, "send", "--no-proof").must(t, 0)
	e := runTold(t, p, guestPassword+"\n", home, "publish", "--password").must(t, 1, "/index.html is shown to strangers", "players have what they had")
	if strings.Contains(e.out, "for those with the password") {
		t.Errorf("it says:\n%s", e.out)
	}
}

// TestWebServers: the lines that where writes make each common web server serve a site as its build needs it: what publish looks at is as it
// should be, and what caches may keep. A password is asked for where one is wanted.
func TestWebServers(t *testing.T) {
	root(t)
	for name, serve := range webServers {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := &machine{root: filepath.Join(guestFolder(t), "lane"), port: freePort(t)}
			h.address = h.root
			etc, public := t.TempDir(), "http://127.0.0.1:"+h.port+"/lane/"
			os.Chmod(etc, 0o755)
			os.MkdirAll(h.root, 0o755)
			p := siteProject(t, h, public, "serves = [\"gzip\", \"br\"]\nisolation = true\n")
			writeInto(t, p, game.Files{"web/core.wasm": []byte("\x00asm\x01\x00\x00\x00"), "web/worker.mjs": []byte("1")})
			for file, text := range map[string]string{"web/rules.wasm": "\x00asm\x01\x00\x00\x00", "web/boot.js": "1", "web/lane.data": "lanterns"} {
				writeInto(t, p, game.Files{file: []byte(text)})
				for _, tool := range [][]string{{"brotli", "-k"}, {"gzip", "-k"}} {
					if out, err := exec.Command(partner(t, tool[0]), append(tool[1:], filepath.Join(p, file))...).CombinedOutput(); err != nil {
						t.Fatalf("%v: %s", err, out)
					}
				}
			}
			home := []string{"HAVVEL_KEYS=" + filepath.Join(t.TempDir(), "keys.json")}
			lines := runWith(t, p, home, "where", "--server", name).must(t, 0, "wasm").out
			serve(t, h, etc, lines)
			runWith(t, p, home, "send", "--no-proof").must(t, 0)
			runWith(t, p, home, "publish").must(t, 0, "all as sent")
			version, _ := filepath.Glob(filepath.Join(h.root, "versions", "0.4.0-*"))
			under := public + "versions/" + filepath.Base(version[0]) + "/"
			for address, want := range map[string]string{public: "no-cache", public + "havvel.json": "no-cache", under + "index.html": "no-cache",
				under + "core.wasm": "immutable", under + "rules.wasm.br": "immutable", under + "boot.js.gz": "immutable"} {
				answer, err := http.Get(address)
				if err != nil {
					t.Fatal(err)
				}
				answer.Body.Close()
				if got := answer.Header.Values("Cache-Control"); len(got) != 1 || !strings.Contains(got[0], want) || answer.StatusCode != 200 {
					t.Errorf("%s comes with %d, Cache-Control %q", address, answer.StatusCode, got)
				}
				if got := answer.Header.Values("Content-Encoding"); len(got) > 1 {
					t.Errorf("%s comes with Content-Encoding %q", address, got)
				}
			}

			runTold(t, p, guestPassword+"\n", home, "publish", "--password").must(t, 1, "doesn't ask strangers for a password", "havvel where --server")
			e := runTold(t, p, guestPassword+"\n", home, "where", "--server", name, "--password").must(t, 0)
			h.stop()
			locked := strings.ReplaceAll(e.out, "/etc/havvel-passwords", filepath.Join(filepath.Dir(h.root), "passwords"))
			for line := range strings.Lines(e.out) {
				if strings.HasPrefix(line, "# player:") {
					os.Chmod(put(t, filepath.Join(filepath.Dir(h.root), "passwords"), strings.TrimPrefix(line, "# ")), 0o644)
				}
			}
			serve(t, h, etc, locked)
			runWith(t, p, home, "back", "--off").must(t, 0)
			runTold(t, p, guestPassword+"\n", home, "publish", "--password").must(t, 0, "for those with the password")
			runWith(t, p, home, "where", "--live").must(t, 0, "all as sent")
			runWith(t, p, home, "where", "--share", "--password").must(t, 0, "User: player", "Password: wick-and-oil")
			if answer, err := http.Get(public); err != nil || answer.StatusCode != http.StatusUnauthorized {
				t.Errorf("a stranger gets %v (%v)", answer.Status, err)
			}
			h.stop()
			serve(t, h, etc, lines) // somebody takes it out
			runWith(t, p, home, "where", "--live").must(t, 1, "is shown to strangers")
		})
	}
}
