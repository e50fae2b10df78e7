//go:build unix

package tests

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"havvel/internal/demo/game"
)

// BenchmarkUpload sends one large archive by a recipe, in the time between the first byte and the last as the server sees it;
// its partner is curl -T to the same server.
func BenchmarkUpload(b *testing.B) {
	curl := partner(b, "curl")
	var took time.Duration
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		n, _ := io.Copy(io.Discard, r.Body)
		if n > 100<<20 {
			took = time.Since(began)
		}
		fmt.Fprint(w, `{"state":"good"}`)
	}))
	defer server.Close()
	rules := "format = \"havvel-rulebook/2\"\nname = \"Plain\"\n[archive]\nhand_over = \"zip\"\n[states]\ngood = " +
		"\"draft\"\n[[send]]\nstep = \"upload\"\nmethod = \"PUT\"\naddress = \"{address}/x\"\nfile = \"archive\"\nexpect = [200]\ntake = { " +
		"state = \"/state\" }\n"
	toml := fmt.Sprintf(
		"[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"0.4.0\"\nexport = \"web\"\n[to.plain]\nrulebook = \"plain.toml\"\naddress "+
			"= %q\n[pack]\nwithout = [\"recode\"]\n",
		server.URL,
	)
	folder := write(
		b,
		game.Files{"havvel.toml": []byte(toml), "plain.toml": []byte(rules), "web/lane.pack": noise(rand.New(rand.NewPCG(1, 2)), 400<<20)},
	)
	for name, data := range small() {
		writeInto(b, folder, game.Files{"web/" + name: data})
	}
	var ours, theirs time.Duration
	for range b.N {
		run(b, folder, "send", "--again", "--accept-errors").must(b, 0)
		ours += took
		if out, err := exec.Command(curl, "-s", "-T", filepath.Join(folder, "packed", "plain-0.4.0.zip"),
			server.URL+"/x").CombinedOutput(); err != nil {
			b.Fatalf("%v %s", err, out)
		}
		theirs += took
	}
	b.ReportMetric(theirs.Seconds()/ours.Seconds(), "of-partner-speed")
}

// BenchmarkParts sends an archive in pieces over a line with 100 ms, four at once; its partner is the same, one after the other.
func BenchmarkParts(b *testing.B) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body) }))
	defer server.Close()
	at := line(b, server.Listener.Addr().String(), 100*time.Millisecond)
	rules := func(parallel int) []byte {
		return fmt.Appendf(nil, `format = "havvel-rulebook/2"
name = "Parts"
[archive]
hand_over = "zip"
[[send]]
step = "part"
each = "piece in pieces(archive, '1 MB')"
parallel = %d
method = "PUT"
address = "{address}/{piece.number}"
file = "piece"
expect = [200]
`, parallel)
	}
	folder := write(b, game.Files{
		"havvel.toml": fmt.Appendf(nil, "[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"0.4.0\"\nexport = \"web\"\n"+
			"[to.one]\nrulebook = \"one.toml\"\naddress = \"http://%s\"\n[to.four]\nrulebook = \"four.toml\"\naddress = \"http://%s\"\n", at, at),
		"one.toml": rules(1), "four.toml": rules(4), "web/lane.pack": noise(rand.New(rand.NewPCG(1, 2)), 24<<20),
	})
	for name, data := range small() {
		writeInto(b, folder, game.Files{"web/" + name: data})
	}
	run(b, folder, "pack", "--accept-errors").must(b, 0)
	times := map[string]time.Duration{}
	for range b.N {
		for _, to := range []string{"one", "four"} {
			began := time.Now()
			run(b, folder, "send", "--to", to, "--again", "--accept-errors").must(b, 0)
			times[to] += time.Since(began)
		}
	}
	b.ReportMetric(times["four"].Seconds()/times["one"].Seconds(), "of-partner-time")
}

// BenchmarkSite sends a large export to OpenSSH, packing and looking at it all included; its partners are OpenSSH's sftp and
// lftp, which send the packed folder.
func BenchmarkSite(b *testing.B) {
	sftp, lftp := partner(b, "sftp"), partner(b, "lftp")
	h := openSSH(b)
	home := strings.TrimPrefix(h.env[0], "HOME=")
	export := largeExport(b)
	toml := fmt.Sprintf(
		"[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"0.4.0\"\nexport = %q\n[to.shed]\naddress = %q\n",
		export,
		h.address,
	)
	folder := write(b, game.Files{"havvel.toml": []byte(toml)})
	run(b, folder, "pack", "--accept-errors").must(b, 0)
	target := strings.TrimPrefix(h.address[:strings.LastIndex(h.address, "/home")], "sftp://")
	who, port, _ := strings.Cut(target, ":")
	config := put(
		b,
		filepath.Join(home, "config"),
		fmt.Sprintf("Host *\nUserKnownHostsFile %s/.ssh/known_hosts\nIdentityFile %s/.ssh/id_ed25519\nPort %s\n", home, home, port),
	)
	times := map[string]time.Duration{}
	timed := func(name string, c *exec.Cmd) {
		began := time.Now()
		if out, err := c.CombinedOutput(); err != nil {
			b.Fatalf("%s: %v %s", name, err, out)
		}
		times[name] += time.Since(began)
	}
	for i := range b.N {
		os.RemoveAll(filepath.Join(h.root, "versions"))
		os.Remove(filepath.Join(h.root, "havvel-versions.json"))
		send := exec.Command(program, "send", "--again", "--accept-errors")
		send.Dir, send.Env = folder, append(os.Environ(), h.env...)
		timed("havvel", send)
		batch := put(
			b,
			filepath.Join(home, "batch"),
			fmt.Sprintf("mkdir %s/s%d\nput -r %s/packed/shed-0.4.0/* %s/s%d\n", h.root, i, folder, h.root, i),
		)
		timed("sftp", exec.Command(sftp, "-q", "-F", config, "-b", batch, who))
		timed(
			"lftp",
			exec.Command(
				lftp,
				"-c",
				fmt.Sprintf(
					"set sftp:connect-program 'ssh -a -x -F %s'; open sftp://%s:x@127.0.0.1:%s; mirror -R -P 6 %s/packed/shed-0.4.0 %s/l%d",
					config,
					guest,
					port,
					folder,
					h.root,
					i,
				),
			),
		)
	}
	b.ReportMetric(times["havvel"].Seconds()/times["sftp"].Seconds(), "of-sftp-time")
	b.ReportMetric(times["havvel"].Seconds()/times["lftp"].Seconds(), "of-lftp-time")
}
