package tests

import (
	"bytes"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"havvel/internal/demo/game"
)

// fileServer is nginx with the files of a large export, and what asks it and others for all of them, many at once.
func fileServer(b *testing.B) (export string, ask func(address string, one ...string) float64) {
	b.Helper()
	nginx, wrk := partner(b, "nginx"), partner(b, "wrk")
	export = largeExport(b)
	folder := b.TempDir()
	cert, key := certificate(b, folder)
	config := fmt.Sprintf(
		"daemon off; pid %[1]s/pid; error_log %[1]s/error; worker_processes 2; user root;\nevents { worker_connections 512; }\nhttp { "+
			"access_log off; sendfile on; tcp_nopush on; types { text/javascript js; image/png png; }\n client_body_temp_path %[1]s/b; "+
			"proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\n server { listen "+
			"127.0.0.1:7421; listen 127.0.0.1:7422 ssl; ssl_certificate %[3]s; ssl_certificate_key %[4]s; root %[2]s; } }\n",
		folder,
		export,
		cert,
		key,
	)
	writeInto(b, folder, game.Files{"nginx.conf": []byte(config)})
	server := exec.Command(nginx, "-c", filepath.Join(folder, "nginx.conf"))
	if err := server.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { server.Process.Signal(os.Interrupt) })
	return export, func(address string, one ...string) float64 {
		at, err := url.Parse(address)
		if err != nil {
			b.Fatal(err)
		}
		prefix := strings.TrimSuffix(at.Path, "/")
		script := "local paths = {\n"
		for _, name := range one {
			script += fmt.Sprintf("%q,\n", prefix+"/"+name)
		}
		for i := range 500 * (1 - min(1, len(one))) {
			script += fmt.Sprintf("%q,\n", fmt.Sprintf("%s/s/%d.js", prefix, i))
		}
		for i := range 700 * (1 - min(1, len(one))) {
			script += fmt.Sprintf("%q,\n", fmt.Sprintf("%s/p/%d.png", prefix, i))
		}
		script += "}\nlocal i = 0\nrequest = function() i = i + 1; return wrk.format('GET', paths[i % #paths + 1]) end\n"
		writeInto(b, folder, game.Files{"paths.lua": []byte(script)})
		out, err := exec.Command(wrk, "-t2", "-c32", "-d4s", "-s", filepath.Join(folder, "paths.lua"), address).CombinedOutput()
		_, rest, ok := strings.Cut(string(out), "Requests/sec:")
		var n float64
		fmt.Sscan(rest, &n)
		if err != nil || !ok || n == 0 || bytes.Contains(out, []byte("Non-2xx")) {
			b.Fatalf("%v: %s", err, out)
		}
		return n
	}
}

// BenchmarkServe asks for all files of a large export, many at once; its partner is nginx with the same files.
func BenchmarkServe(b *testing.B) {
	export, ask := fileServer(b)
	ours := exec.Command(program, "play", export)
	ours.Dir = b.TempDir()
	out, err := ours.StdoutPipe()
	if err == nil {
		err = ours.Start()
	}
	if err != nil {
		b.Fatal(err)
	}
	defer ours.Process.Signal(os.Interrupt)
	said := make([]byte, 4096)
	for !bytes.Contains(said, []byte("next:")) {
		n, err := out.Read(said[bytes.IndexByte(said, 0):])
		if n == 0 || err != nil {
			b.Fatalf("%s %v", said, err)
		}
	}
	_, address, _ := strings.Cut(string(said), "the game alone: ")
	address, _, _ = strings.Cut(address, "\n")
	var mine, nginxs float64
	for b.Loop() {
		nginxs += ask("http://127.0.0.1:7421/")
		mine += ask(strings.TrimSpace(address))
	}
	b.ReportMetric(mine/nginxs, "of-partner-throughput")
}

// BenchmarkHost asks a playtest host for all files of a large build that was sent to it; its partner is nginx with the same files. Both
// answer over connections that are kept, without and with TLS.
func BenchmarkHost(b *testing.B) {
	b.Run("plain", func(b *testing.B) { benchHost(b, "http://127.0.0.1:7421/") })
	b.Run("TLS", func(b *testing.B) {
		cert, key := certificate(b, b.TempDir())
		benchHost(b, "https://127.0.0.1:7422/", "--certificate", cert, "--certificate-key", key)
	})
}

func benchHost(b *testing.B, other string, args ...string) {
	curl := partner(b, "curl")
	export, ask := fileServer(b)
	data := b.TempDir()
	control, _, _ := hosting(b, data, append(args, "--port", "0")...)
	folder := b.TempDir()
	writeInto(
		b,
		folder,
		game.Files{
			"havvel.toml": fmt.Appendf(
				nil,
				"[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"1\"\nexport = %q\n[to.shed]\nrulebook = \"shed\"\naddress = %q\n",
				export,
				control,
			),
		},
	)
	token := strings.Fields(run(b, folder, "host", "token", "make", "moth", "--data", data).must(b, 0).out)[0]
	env := []string{"SHED_KEY=" + token}
	if len(args) > 1 {
		env = append(env, "SSL_CERT_FILE="+args[1])
	}
	runWith(b, folder, env, "send", "--accept-errors").must(b, 0)
	link := decode[deliveries](b, runWith(b, folder, env, "where", "--json").must(b, 0)).Deliveries[0].Link
	round := decode[struct{ Link string }](b, runWith(b, folder, env, "round", "open", "--json").must(b, 0)).Link
	got, err := exec.Command(curl, "--silent", "--insecure", round).Output()
	if err != nil {
		b.Fatal(err)
	}
	page := string(got)
	_, page, _ = strings.Cut(page, `const game = "`)
	at, _, _ := strings.Cut(strings.ReplaceAll(page, `\/`, "/"), `"`)
	var nginxs, build, played, nginxLarge, playedLarge float64
	for b.Loop() {
		nginxs += ask(other)
		build += ask(link)
		played += ask(at)
		nginxLarge += ask(other, "lane.pack")
		playedLarge += ask(at, "lane.pack")
	}
	b.ReportMetric(build/nginxs, "of-partner-throughput")
	b.ReportMetric(played/nginxs, "round-of-partner")
	b.ReportMetric(playedLarge/nginxLarge, "large-of-partner")
}
