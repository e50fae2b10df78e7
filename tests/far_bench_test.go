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

// A far is a server at the other end of a line.
type far struct {
	*machine
	at    string // the line's near end
	count *counter
}

// plainFTP serves FTP without TLS: its data goes to a few ports, each of which has a line of its own, under another of this machine's
// addresses.
func plainFTP(b *testing.B, trip time.Duration) far {
	const first, ports = 42_000, 60
	h := vsftpd(b, "ftp-plain", fmt.Sprintf("implicit_ssl=NO\nssl_enable=NO\npasv_min_port=%d\npasv_max_port=%d", first, first+ports-1))
	f := far{machine: h, at: "127.0.0.2:" + h.port, count: &counter{}}
	for _, port := range append(strings.Fields(h.port), numbers(first, ports)...) {
		lineAt(b, "127.0.0.2:"+port, "127.0.0.1:"+port, trip)
	}
	return f
}

func numbers(first, n int) (list []string) {
	for i := range n {
		list = append(list, strconv.Itoa(first+i))
	}
	return list
}

// atEnd opens a server of a kind at the other end of a line.
func atEnd(b *testing.B, kind string, trip time.Duration) far {
	if kind == "ftp" {
		f := plainFTP(b, trip)
		f.address = strings.Replace(f.address, "127.0.0.1", "127.0.0.2", 1)
		return f
	}
	h := machines[kind](b)
	f := far{machine: h}
	f.at, f.count = counted(b, "127.0.0.1:"+h.port)
	if trip > 0 {
		f.at = line(b, f.at, trip)
	}
	f.address = strings.Replace(h.address, "127.0.0.1:"+h.port, f.at, 1)
	if kind == "sftp" {
		known := filepath.Join(strings.TrimPrefix(h.env[0], "HOME="), ".ssh", "known_hosts")
		data, _ := os.ReadFile(known)
		_, port, _ := net.SplitHostPort(f.at)
		put(b, known, strings.Replace(string(data), ":"+h.port, ":"+port, 1))
	}
	return f
}

// copiers are general tools that copy a folder to a kind of server, each into a folder of its own.
func copiers(b *testing.B, kind string, f far, from string) map[string]*exec.Cmd {
	lftp, rclone := partner(b, "lftp"), partner(b, "rclone")
	host, port, _ := net.SplitHostPort(f.at)
	home := b.TempDir()
	obscured, err := exec.Command(rclone, "obscure", guestPassword).Output()
	if err != nil {
		b.Fatal(err)
	}
	word := strings.TrimSpace(string(obscured))
	list := map[string]*exec.Cmd{}
	copying := func(to string, settings ...string) *exec.Cmd {
		return exec.Command(rclone, append([]string{"copy", "--transfers", "8", "--checkers", "16", from, to}, settings...)...)
	}
	switch kind {
	case "sftp":
		key := filepath.Join(strings.TrimPrefix(f.env[0], "HOME="), ".ssh", "id_ed25519")
		config := put(b, filepath.Join(home, "config"), fmt.Sprintf("Host *\nStrictHostKeyChecking no\nUserKnownHostsFile /dev/null\nIdentityFile %s\n", key))
		list["lftp"] = exec.Command(lftp, "-c", fmt.Sprintf("set sftp:connect-program 'ssh -a -x -F %s'; open sftp://%s:x@%s:%s; mirror -R -P 8 %s %s/lftp",
			config, guest, host, port, from, f.root))
		batch := put(b, filepath.Join(home, "batch"), fmt.Sprintf("-mkdir %s/of-sftp\nput -R %s/* %s/of-sftp\n", f.root, from, f.root))
		list["sftp"] = exec.Command(partner(b, "sftp"), "-q", "-F", config, "-b", batch, "-P", port, guest+"@"+host)
		list["rclone"] = copying(":sftp:"+f.root+"/rclone", "--sftp-host", host, "--sftp-port", port, "--sftp-user", guest, "--sftp-key-file", key)
	case "webdav":
		list["rclone"] = copying(":webdav:/lane/rclone", "--webdav-url", "http://"+f.at, "--webdav-user", "moth", "--webdav-pass", word)
	case "objects":
		id, secret, _ := strings.Cut(strings.TrimPrefix(f.env[0], "SHED_KEY="), ":")
		bucket := strings.Split(f.address, "/")[3]
		list["rclone"] = copying(":s3:"+bucket+"/rclone", "--s3-provider", "Other", "--s3-endpoint", "http://"+f.at, "--s3-access-key-id", id,
			"--s3-secret-access-key", secret, "--s3-region", "us-east-1")
	case "ftp":
		list["lftp"] = exec.Command(lftp, "-c", fmt.Sprintf("set ftp:ssl-allow no; open ftp://%s:%s@%s:%s; mirror -R -P 8 %s %s/lftp",
			guest, guestPassword, host, port, from, f.root))
		list["rclone"] = copying(":ftp:"+f.root+"/rclone", "--ftp-host", host, "--ftp-port", port, "--ftp-user", guest, "--ftp-pass", word)
	}
	for _, c := range list {
		c.Env = append(os.Environ(), "HOME="+home, "AWS_CA_BUNDLE=")
	}
	return list
}

// number is what an environment variable says.
func number(variable string, otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv(variable)); err == nil {
		return n
	}
	return otherwise
}

// BenchmarkFar sends many small files and a large one over lines of 0, 50 and 500 ms, the first time and with one file changed; its partners
// are general tools that copy the packed folder to the same server.
func BenchmarkFar(b *testing.B) {
	small, large := number("FAR_FILES", 300), number("FAR_MB", 20)<<20
	for _, kind := range []string{"sftp", "webdav", "objects", "ftp"} {
		for _, trip := range []time.Duration{0, 50 * time.Millisecond, 500 * time.Millisecond} {
			b.Run(fmt.Sprintf("%s/%dms", kind, trip.Milliseconds()), func(b *testing.B) {
				f := atEnd(b, kind, trip)
				p := siteProject(b, f.machine, "", "")
				r := rand.New(rand.NewPCG(1, 2))
				for i := range small {
					writeInto(b, p, game.Files{fmt.Sprintf("web/data/%d/%d.bin", i%15, i): noise(r, 2000+i)})
				}
				writeInto(b, p, game.Files{"web/lane.pack": noise(r, large)})
				times := map[string]float64{}
				for range b.N {
					left, _ := filepath.Glob(filepath.Join(f.root, "*"))
					for _, at := range left {
						os.RemoveAll(at)
					}
					for _, turn := range []string{"first", "again"} {
						if turn == "again" {
							writeInto(b, p, game.Files{"web/data/1/1.bin": noise(r, 3000)})
						}
						run(b, p, "pack", "--accept-errors").must(b, 0)
						up, conns, began := f.count.up.Load(), f.count.connections.Load(), time.Now()
						runWith(b, p, f.env, "send", "--again", "--accept-errors", "--no-proof").must(b, 0)
						times[turn] += time.Since(began).Seconds()
						b.ReportMetric(float64(f.count.up.Load()-up)/1024, turn+"-KB")
						b.ReportMetric(float64(f.count.connections.Load()-conns), turn+"-connections")
						limit := 3*time.Since(began)/2 + 5*time.Second // a partner that takes longer is stopped, and has that time
						for name, c := range copiers(b, kind, f, filepath.Join(p, "packed", "shed-0.4.0")) {
							began, slow := time.Now(), time.AfterFunc(limit, func() { c.Process.Kill() })
							if out, err := c.CombinedOutput(); err != nil && slow.Stop() {
								b.Errorf("%s: %v %s", name, err, out)
							}
							slow.Stop()
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
