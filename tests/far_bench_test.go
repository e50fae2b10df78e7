//go:build unix

package tests

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"havvel/internal/demo/game"
)

// A counter is a relay that counts connections, and the bytes that go up.
type counter struct{ connections, up atomic.Int64 }

// counted puts a counter before an address.
func counted(t testing.TB, to string) (string, *counter) {
	t.Helper()
	near, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { near.Close() })
	n := &counter{}
	go func() {
		for {
			c, err := near.Accept()
			if err != nil {
				return
			}
			n.connections.Add(1)
			far, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				continue
			}
			go func() { io.Copy(c, far); c.Close() }()
			go func() {
				io.Copy(io.MultiWriter(far, upward{n}), c)
				far.(*net.TCPConn).CloseWrite()
			}()
		}
	}()
	return near.Addr().String(), n
}

type upward struct{ *counter }

func (u upward) Write(p []byte) (int, error) {
	u.up.Add(int64(len(p)))
	return len(p), nil
}

// copiers are general tools that copy a folder to a kind of server, at an address, into a folder there.
func copiers(b *testing.B, kind string, h *machine, at, from, to string) map[string]*exec.Cmd {
	lftp, rclone := partner(b, "lftp"), partner(b, "rclone")
	host, port, _ := net.SplitHostPort(at)
	home := b.TempDir()
	obscured, err := exec.Command(rclone, "obscure", guestPassword).Output()
	if err != nil {
		b.Fatal(err)
	}
	word := strings.TrimSpace(string(obscured))
	list := map[string]*exec.Cmd{}
	switch kind {
	case "sftp":
		key := filepath.Join(strings.TrimPrefix(h.env[0], "HOME="), ".ssh", "id_ed25519")
		config := put(b, filepath.Join(home, "config"), fmt.Sprintf("Host *\nStrictHostKeyChecking no\nUserKnownHostsFile /dev/null\nIdentityFile %s\n", key))
		list["lftp"] = exec.Command(lftp, "-c", fmt.Sprintf("set sftp:connect-program 'ssh -a -x -F %s'; open sftp://%s:x@%s:%s; mirror -R -P 6 %s %s",
			config, guest, host, port, from, to))
	case "webdav":
		list["rclone"] = exec.Command(rclone, "copy", "--transfers", "6", "--webdav-url", "http://"+at, "--webdav-user", "moth", "--webdav-pass", word,
			from, ":webdav:/"+filepath.Base(to))
	}
	for _, c := range list {
		c.Env = append(os.Environ(), "HOME="+home)
	}
	return list
}

// BenchmarkFar sends many small files and a large one over lines of 0, 50 and 500 ms, the first time and with one file changed; its partners
// are general tools that copy the packed folder to the same server.
func BenchmarkFar(b *testing.B) {
	small, large := 300, 20<<20
	if n, err := strconv.Atoi(os.Getenv("FAR_FILES")); err == nil {
		small = n
	}
	for _, kind := range []string{"sftp", "webdav"} {
		for _, trip := range []time.Duration{0, 50 * time.Millisecond, 500 * time.Millisecond} {
			b.Run(fmt.Sprintf("%s/%dms", kind, trip.Milliseconds()), func(b *testing.B) {
				h := machines[kind](b)
				at, count := counted(b, "127.0.0.1:"+h.port)
				if trip > 0 {
					at = line(b, at, trip)
				}
				address := strings.Replace(h.address, "127.0.0.1:"+h.port, at, 1)
				if kind == "sftp" {
					known := filepath.Join(strings.TrimPrefix(h.env[0], "HOME="), ".ssh", "known_hosts")
					data, _ := os.ReadFile(known)
					_, port, _ := net.SplitHostPort(at)
					put(b, known, strings.Replace(string(data), ":"+h.port, ":"+port, 1))
				}
				p := siteProject(b, &machine{address: address}, "", "")
				r := rand.New(rand.NewPCG(1, 2))
				for i := range small {
					writeInto(b, p, game.Files{fmt.Sprintf("web/data/%d/%d.bin", i%15, i): noise(r, 2000+i)})
				}
				writeInto(b, p, game.Files{"web/lane.pack": noise(r, large)})
				times := map[string]float64{}
				for i := range b.N {
					os.RemoveAll(filepath.Join(h.root, "versions"))
					os.Remove(filepath.Join(h.root, "havvel-versions.json"))
					for _, turn := range []string{"first", "again"} {
						if turn == "again" {
							writeInto(b, p, game.Files{"web/data/1/1.bin": noise(r, 3000)})
						}
						run(b, p, "pack", "--accept-errors").must(b, 0)
						up, conns, began := count.up.Load(), count.connections.Load(), time.Now()
						runWith(b, p, h.env, "send", "--again", "--accept-errors", "--no-proof").must(b, 0)
						times[turn] += time.Since(began).Seconds()
						b.ReportMetric(float64(count.up.Load()-up)/1024, turn+"-KB")
						b.ReportMetric(float64(count.connections.Load()-conns), turn+"-connections")
						for name, c := range copiers(b, kind, h, at, filepath.Join(p, "packed", "shed-0.4.0"), fmt.Sprintf("%s/of-%d", h.root, i)) {
							began := time.Now()
							if out, err := c.CombinedOutput(); err != nil {
								b.Fatalf("%s: %v %s", name, err, out)
							}
							times[turn+" "+name] += time.Since(began).Seconds()
						}
					}
				}
				for name, took := range times {
					b.ReportMetric(took/float64(b.N), strings.ReplaceAll(name, " ", "-")+"-s")
				}
			})
		}
	}
}
