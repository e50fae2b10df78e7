//go:build unix

package tests

import (
	"crypto/rand"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"havvel/internal/demo/game"
)

// siteProject writes a project with a small game whose destination is a host. public is where its files are served.
func siteProject(t testing.TB, h *machine, public, more string) string {
	t.Helper()
	toml := fmt.Sprintf(
		"[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"0.4.0\"\nexport = \"web\"\n[to.shed]\naddress = %q\nkey = "+
			"\"env:SHED_KEY\"\npublic = %q\nkeep = 3\n%s",
		h.address,
		public,
		more,
	)
	if strings.HasPrefix(h.address, "sftp") || strings.HasPrefix(h.address, "/") {
		toml = strings.Replace(toml, "key = \"env:SHED_KEY\"\n", "", 1)
	}
	folder := write(t, game.Files{"havvel.toml": []byte(toml)})
	for name, data := range small() {
		writeInto(t, folder, game.Files{"web/" + name: data})
	}
	return folder
}

// raise writes another version: one small file is changed.
func raise(t *testing.T, folder, from, to string) {
	t.Helper()
	toml, err := os.ReadFile(filepath.Join(folder, "havvel.toml"))
	if err != nil {
		t.Fatal(err)
	}
	writeInto(
		t,
		folder,
		game.Files{"havvel.toml": []byte(strings.Replace(string(toml), from, to, 1)), "web/night.json": []byte(`{"night":"` + to + `"}`)},
	)
}

// TestSites walks two versions and the way back on every real server.
func TestSites(t *testing.T) {
	for name, open := range machines {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := open(t)
			web := httptest.NewServer(http.FileServer(http.Dir(h.root)))
			defer web.Close()
			p := siteProject(t, h, web.URL, "keep_for = \"1ms\"\n")
			writeInto(t, p, game.Files{"web/night sky/L\u00e4rm #1.json": []byte("{}"), "web/empty.json": nil})
			hv := func(args ...string) ending { return runWith(t, p, h.env, args...) }
			hv("send", "--dry-run").must(t, 0, "shed would get version 0.4.0")
			hv("send", "--to", "shed").must(t, 0, "sent 0.4.0 to shed", "state: draft", "/versions/0.4.0-")
			hv("where").must(t, 0, "draft")
			hv("publish").must(t, 0, "version 0.4.0 is public on shed  "+web.URL, "all as sent")
			first := snapshot(t, filepath.Join(h.root, "versions"))
			raise(t, p, "0.4.0", "0.4.1")
			e := hv("send").must(t, 0, "sent 0.4.1 to shed")
			if !strings.HasPrefix(name, "ftp") && !strings.Contains(e.out, "copied on the host") {
				t.Errorf("everything travelled again:\n%s", e.out)
			}
			hv("where", "--json").must(t, 0, `"version": "0.4.0"`, `"public"`, `"draft"`)
			hv("publish", "--on-change", "cat > told.json").must(t, 0, "version 0.4.1 is public")
			if told, err := os.ReadFile(filepath.Join(p, "told.json")); err != nil || !strings.Contains(string(told), `"state":"public"`) {
				t.Errorf("the command was told %q (%v)", told, err)
			}
			for name, data := range first { // a version never changes
				if now := snapshot(t, filepath.Join(h.root, "versions"))[name]; now != data {
					t.Errorf("%s of the first version changed", name)
				}
			}
			hv("back", "--dry-run").must(t, 0, "version 0.4.0 would become public on shed, instead of 0.4.1")
			hv("back").must(t, 0, "version 0.4.0 is public on shed, instead of 0.4.1")
			hv("where", "--live").must(t, 0, "replaced", "all as sent")
			hv("back", "0.4.1").must(t, 0, "version 0.4.1 is public")
			hv("back", "0.3.0").must(t, 1, "version 0.3.0 was never sent")
			hv("back", "--off").must(t, 0, "nothing is public on shed now", "havvel back 0.4.1")
			hv("back", "0.4.1").must(t, 0)
			hv("logbook", "--version", "0.4.1").must(t, 0, "draft", "withdrawn", "public")
			players := func() string { return snapshot(t, h.root)["/index.html"] + snapshot(t, h.root)["/havvel.json"] }
			before := players()
			for i := 2; i < 6; i++ {
				raise(t, p, fmt.Sprintf("0.4.%d", i-1), fmt.Sprintf("0.4.%d", i))
				hv("send").must(t, 0)
			}
			left, err := filepath.Glob(filepath.Join(h.root, "versions", "*"))
			if err != nil || len(left) != 6 || players() != before {
				t.Errorf("sending alone changed what players read, or took a version away: %v (%v)", left, err)
			}
			left, _ = filepath.Glob(filepath.Join(h.root, "versions", "0.4.1-*"))
			hv("where", "--all").must(t, 0, "0.4.1    public", "0.4.5    draft")
			hv("where", "--share", "--to", "shed").must(t, 0, "Play Lane 0.4.5 in your browser:", "please don't pass the link on")
			if name != "objects" { // players' side: a file that the host changed
				file := filepath.Join(left[0], "game.js")
				whole, _ := os.ReadFile(file)
				os.WriteFile(file, []byte("changed"), 0o644)
				hv("where", "--live").must(t, 1, "game.js: players get other content")
				os.WriteFile(file, whole, 0o644)
			}
			hv("publish").must(t, 0, "version 0.4.5 is public") // and the oldest go
			if left, err = filepath.Glob(filepath.Join(h.root, "versions", "*", "havvel-files.json")); err != nil || len(left) != 3 {
				t.Errorf("%v are left (%v)", left, err)
			}
			hv("back", "0.4.2").must(t, 1, "not there any more")
			hv("back").must(t, 0, "version 0.4.1 is public")
		})
	}
}

// TestSiteRefusals: who is not let in, or not trusted, hears why, and what to do; nothing is sent.
func TestSiteRefusals(t *testing.T) {
	t.Run("wrong passwords", func(t *testing.T) {
		t.Parallel()
		for name, open := range machines {
			if name == "sftp" {
				continue // below
			}
			h := open(t)
			p := siteProject(t, h, "", "")
			env := append(h.env, "SHED_KEY=moth:wrong")
			runWith(t, p, env, "send").must(t, 1, "havvel keys set")
			runWith(t, p, h.env, "send").must(t, 0)
		}
	})
	t.Run("an unknown host", func(t *testing.T) {
		t.Parallel()
		h := openSSH(t)
		p := siteProject(t, h, "", "")
		runWith(t, p, append(h.env, "HOME="+t.TempDir()), "send").must(t, 1, "does not know its key yet", "connect once with ssh")
		home := strings.TrimPrefix(h.env[0], "HOME=")
		known, _ := os.ReadFile(filepath.Join(home, ".ssh", "known_hosts"))
		mine, _ := os.ReadFile(filepath.Join(home, ".ssh", "id_ed25519.pub"))
		other := strings.Fields(string(known))[0] + " " + strings.Join(strings.Fields(string(mine))[:2], " ") + "\n"
		put(t, filepath.Join(home, ".ssh", "known_hosts"), other)
		runWith(t, p, h.env, "send").must(t, 1, "is not the one in known_hosts; somebody may be in between")
	})
	t.Run("SSH by password, key file and passphrase", func(t *testing.T) {
		t.Parallel()
		h := openSSH(t)
		home := strings.TrimPrefix(h.env[0], "HOME=")
		key := filepath.Join(home, ".ssh", "id_ed25519")
		if out, err := exec.Command("ssh-keygen", "-q", "-p", "-P", "", "-N", "old oil", "-f", key).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		p := siteProject(t, h, "", fmt.Sprintf("identity = %q\nkey = \"env:SHED_KEY\"\n", key))
		runWith(t, p, append(h.env, "SHED_KEY=", "HAVVEL_KEYS="+filepath.Join(home, "keys.json")), "send").must(t, 3, "shed needs a key")
		runWith(t, p, append(h.env, "SHED_KEY=wrong"), "send").must(t, 2, "does not open with the passphrase")
		runWith(t, p, append(h.env, "SHED_KEY=old oil"), "send").must(t, 0)
		runWith(t, siteProject(t, h, "", "key = \"env:SHED_KEY\"\n"), append(h.env, "SHED_KEY="+guestPassword), "send").must(t, 0)
		runWith(t, siteProject(t, h, "", "key = \"env:SHED_KEY\"\n"), append(h.env, "SHED_KEY=wrong"), "send").must(t, 1, "does not let")
	})
	t.Run("SSH by agent", func(t *testing.T) {
		t.Parallel()
		h := openSSH(t)
		home := strings.TrimPrefix(h.env[0], "HOME=")
		socket, key := filepath.Join(home, "agent"), filepath.Join(home, "elsewhere")
		if err := os.Rename(filepath.Join(home, ".ssh", "id_ed25519"), key); err != nil {
			t.Fatal(err)
		}
		agent := exec.Command(partner(t, "ssh-agent"), "-D", "-a", socket)
		if err := agent.Start(); err != nil {
			t.Fatal(err)
		}
		defer agent.Process.Kill()
		p := siteProject(t, h, "", "")
		env := append(h.env, "SSH_AUTH_SOCK="+socket)
		eventually(t, "the agent does not listen", func() (any, bool) { return socket, exists(socket) })
		runWith(t, p, env, "send").must(t, 1, "does not let")
		add := exec.Command("ssh-add", key)
		add.Env = append(os.Environ(), env...)
		if out, err := add.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		runWith(t, p, env, "send").must(t, 0)
	})
	t.Run("a certificate that nobody vouches for", func(t *testing.T) {
		t.Parallel()
		h := veryFTP(t)
		p := siteProject(t, h, "", "")
		runWith(t, p, append(h.env, "SSL_CERT_FILE=/etc/ssl/certs/ca-certificates.crt"), "send").must(t, 1, "its certificate is not valid")
	})
	t.Run("nobody there", func(t *testing.T) {
		t.Parallel()
		for _, address := range []string{"sftp://moth@127.0.0.1:1/x", "ftp://moth@127.0.0.1:1/x", "dav://moth@127.0.0.1:1/x",
			"s3+http://127.0.0.1:1/b/x"} {
			p := siteProject(t, &machine{address: address}, "", "")
			runWith(t, p, []string{"SHED_KEY=a:b"}, "send").must(t, 4, "can't reach 127.0.0.1:1", "nothing was lost")
		}
	})
}

// TestSiteResume kills an upload of a large file in the middle: the next one goes on where it was, and sends little twice.
func TestSiteResume(t *testing.T) {
	const size = 120 << 20
	for name, slack := range map[string]int64{"sftp": 8 << 20, "ftp": 1 << 20, "objects": 17 << 20} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := machines[name](t)
			through := &relay{}
			if name != "ftp" { // whose data goes over connections of their own
				through = h.behind(t)
			}
			p := siteProject(t, h, "", "")
			big := make([]byte, size)
			rand.Read(big)
			writeInto(t, p, game.Files{"web/lane.pack": big})
			c := exec.Command(program, "send", "--accept-errors")
			c.Dir, c.Env = p, append(os.Environ(), h.env...)
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			deadline := time.Now().Add(time.Minute)
			for written(h) < size/3 && time.Now().Before(deadline) {
				time.Sleep(20 * time.Millisecond)
			}
			c.Process.Signal(syscall.SIGKILL)
			c.Wait()
			before, there := through.sent.Load(), written(h)
			if there < size/3 || there >= size {
				t.Fatalf("%d bytes are there when it was killed", there)
			}
			e := runWith(t, p, h.env, "send", "--accept-errors").must(t, 0)
			if again := through.sent.Load() - before; name != "ftp" && again > size-there+slack+1<<20 {
				t.Errorf("%d bytes went out the second time, with %d of %d there", again, there, size)
			}
			if !strings.Contains(e.out, "sent 0.4.0") {
				t.Error(e.out)
			}
			files, _ := filepath.Glob(filepath.Join(h.root, "versions", "*", "lane.pack"))
			if data, err := os.ReadFile(files[0]); err != nil || string(data) != string(big) {
				t.Errorf("the file is not what was sent (%v)", err)
			}
		})
	}
}

// written is how many bytes a host has on its disk, finished or not.
func written(h *machine) (total int64) {
	top := h.root
	if strings.HasPrefix(h.address, "s3") {
		top = filepath.Dir(filepath.Dir(top))
	}
	filepath.Walk(top, func(_ string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() {
			total += info.Size()
		}
		return nil
	})
	return total
}

// TestSiteRestart: a server that goes away in the middle, and comes back, gets the whole version all the same.
func TestSiteRestart(t *testing.T) {
	for _, name := range []string{"sftp", "webdav", "objects"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := machines[name](t)
			p := siteProject(t, h, "", "")
			files := game.Files{}
			for i := range 300 {
				data := make([]byte, 40<<10)
				rand.Read(data)
				files[fmt.Sprintf("web/night/%03d.dat", i)] = data
			}
			writeInto(t, p, files)
			c := exec.Command(program, "send", "--accept-errors")
			c.Dir, c.Env = p, append(os.Environ(), h.env...)
			said := &strings.Builder{}
			c.Stdout, c.Stderr = said, said
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			for deadline := time.Now().Add(30 * time.Second); written(h) < 2<<20 && time.Now().Before(deadline); {
				time.Sleep(2 * time.Millisecond)
			}
			h.stop()
			time.Sleep(300 * time.Millisecond)
			h.start()
			if err := c.Wait(); err != nil {
				t.Fatalf("%v\n%s", err, said)
			}
			runWith(t, p, h.env, "publish").must(t, 0, "is in place")
		})
	}
}

// TestSiteMany sends 2,000 small files; then one of them changes, and little more than that one goes over the wire.
func TestSiteMany(t *testing.T) {
	for name, n := range map[string]int{"sftp": 2000, "objects": 2000, "webdav": 300} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := machines[name](t)
			through := h.behind(t)
			p := siteProject(t, h, "", "")
			files := game.Files{}
			for i := range n {
				files[fmt.Sprintf("web/n%02d/%04d.dat", i%20, i)] = []byte(strings.Repeat(fmt.Sprintf("lantern %d ", i), 300))
			}
			writeInto(t, p, files)
			runWith(t, p, h.env, "send", "--accept-errors").must(t, 0)
			if left, _ := filepath.Glob(filepath.Join(h.root, "versions", "*", "n*", "*.dat")); len(left) != n {
				t.Errorf("%d files arrived", len(left))
			}
			before := through.sent.Load()
			raise(t, p, "0.4.0", "0.4.1")
			runWith(t, p, h.env, "send", "--accept-errors").must(t, 0, "copied on the host")
			wire, each := through.sent.Load()-before, int64(800) // a request to copy, and a line of the list, for each file
			t.Logf("%d bytes on the wire for one changed file of %d", wire, n)
			if wire > 64<<10+int64(n)*each {
				t.Errorf("%d bytes went over the wire", wire)
			}
		})
	}
}

// TestSiteFull: a host whose disk is full is named as such, players keep what they have, and with room it goes on.
func TestSiteFull(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"sftp", "ftp"} {
		t.Run(name, func(t *testing.T) {
			h := machines[name](t)
			if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=3m,mode=777", "tmpfs", h.root).CombinedOutput(); err != nil {
				t.Skipf("skipped: no small disk can be mounted here: %s", out)
			}
			defer exec.Command("umount", "-l", h.root).Run()
			p := siteProject(t, h, "", "")
			runWith(t, p, h.env, "send").must(t, 0)
			runWith(t, p, h.env, "publish").must(t, 0)
			big := make([]byte, 5<<20)
			rand.Read(big)
			writeInto(t, p, game.Files{"web/lane.pack": big})
			raise(t, p, "0.4.0", "0.4.1")
			runWith(t, p, h.env, "send", "--accept-errors").must(t, 1, "disk full", "make room on the host")
			runWith(t, p, h.env, "where").must(t, 0, "public")
			exec.Command("mount", "-o", "remount,size=30m", h.root).Run()
			runWith(t, p, h.env, "send", "--accept-errors").must(t, 0, "sent 0.4.1")
			runWith(t, p, h.env, "publish").must(t, 0)
		})
	}
}

// TestSiteStop: Ctrl-C in the middle gives the lock back, so that the next one need not wait.
func TestSiteStop(t *testing.T) {
	t.Parallel()
	h := openSSH(t)
	p := siteProject(t, h, "", "")
	big := make([]byte, 60<<20)
	rand.Read(big)
	writeInto(t, p, game.Files{"web/lane.pack": big})
	c := exec.Command(program, "send", "--accept-errors")
	c.Dir, c.Env = p, append(os.Environ(), h.env...)
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(30 * time.Second); written(h) < 4<<20 && time.Now().Before(deadline); {
		time.Sleep(5 * time.Millisecond)
	}
	c.Process.Signal(os.Interrupt)
	c.Wait()
	if code := c.ProcessState.ExitCode(); code != 130 {
		t.Errorf("it ended with %d", code)
	}
	if left, _ := filepath.Glob(filepath.Join(h.root, "havvel.lock")); len(left) != 0 {
		t.Error("the lock is still there")
	}
	runWith(t, p, h.env, "send", "--accept-errors").must(t, 0)
}

// TestPageGone: nothing is called public where the page that players open is gone or is somebody else's; the loss of the small file beside it
// loses nothing.
func TestPageGone(t *testing.T) {
	at := t.TempDir()
	p := siteProject(t, &machine{address: at}, "", "")
	run(t, p, "send").must(t, 0)
	run(t, p, "publish").must(t, 0)
	raise(t, p, "0.4.0", "0.4.1")
	run(t, p, "send").must(t, 0)
	run(t, p, "publish").must(t, 0)
	lose := func(name string) {
		t.Helper()
		if err := os.Remove(filepath.Join(at, name)); err != nil {
			t.Fatal(err)
		}
	}
	lose("havvel.json")
	run(t, p, "where").must(t, 0, "0.4.1", "public")
	run(t, p, "back", "--dry-run").must(t, 0, "version 0.4.0 would become public")
	lose("index.html")
	run(t, p, "where").must(t, 0, "0.4.1", "withdrawn", "players get no game", "havvel publish puts it back")
	run(t, p, "publish").must(t, 0, "0.4.1")
	run(t, p, "where").must(t, 0, "public")
	if err := os.WriteFile(filepath.Join(at, "index.html"), []byte("<h1>Moor Studio</h1>"), 0o644); err != nil {
		t.Fatal(err)
	}
	run(t, p, "where").must(t, 0, "withdrawn", "players get no game")
	run(t, p, "publish").must(t, 1, "index.html, which havvel did not write")
}
