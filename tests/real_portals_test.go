//go:build unix

package tests

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"havvel/internal/demo/game"
)

// ownPortal is a project that goes to a portal by a rulebook, with an archive of about so many bytes.
func ownPortal(t *testing.T, rules, address string, size int) (folder, archive string) {
	t.Helper()
	folder = write(t, game.Files{
		"x.toml":        []byte(rules),
		"havvel.toml":   fmt.Appendf(nil, "[game]\ntitle = \"Lane\"\nshort = \"lane\"\nversion = \"0.4.0\"\nexport = \"web\"\n[to.x]\nrulebook = \"x.toml\"\naddress = %q\n", address),
		"web/lane.pack": noise(rand.New(rand.NewPCG(1, 2)), size),
	})
	for name, data := range small() {
		writeInto(t, folder, game.Files{"web/" + name: data})
	}
	return folder, filepath.Join(folder, "packed", "x-0.4.0.zip")
}

// wholeOnDisk compares a file on a server's disk with what was packed.
func wholeOnDisk(t *testing.T, archive, pattern string) {
	t.Helper()
	there, err := filepath.Glob(pattern)
	if err != nil || len(there) != 1 {
		t.Fatalf("%d files are there: %v", len(there), there)
	}
	want, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := os.ReadFile(there[0]); err != nil || !bytes.Equal(got, want) {
		t.Errorf("%d bytes arrived of %d (%v)", len(got), len(want), err)
	}
}

// TestResumableServer: an upload to a server of the open protocol goes on where it was when the program was killed.
func TestResumableServer(t *testing.T) {
	t.Parallel()
	tusd, disk, port := partner(t, "tusd"), t.TempDir(), freePort(t)
	h := &machine{port: port}
	h.serving(t, nil, tusd, "-host", "127.0.0.1", "-port", port, "-upload-dir", disk, "-base-path", "/builds/")
	folder, archive := ownPortal(t, `format = "havvel-rulebook/2"
name = "Reedhouse"
keep = ["upload"]
[archive]
hand_over = "zip"
[[send]]
step      = "upload"
method    = "POST"
address   = "{address}/builds/"
file      = "archive"
resumable = true
piece     = "2 MB"
expect    = [201]
take      = { upload = "header Location" }
`, "http://"+line(t, "127.0.0.1:"+port, 20*time.Millisecond), 48<<20)
	run(t, folder, "pack").must(t, 0)
	here := func() (n int64) {
		files, _ := filepath.Glob(filepath.Join(disk, "*"))
		for _, f := range files {
			if info, err := os.Stat(f); err == nil && filepath.Ext(f) == "" {
				n += info.Size()
			}
		}
		return n
	}
	c := exec.Command(program, "send")
	c.Dir = folder
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	eventually(t, "nothing arrives", func() (any, bool) { return here(), here() > 8<<20 })
	c.Process.Kill()
	c.Wait()
	if n := here(); n > 46<<20 {
		t.Fatalf("it was over before it was killed: %d bytes", n)
	}
	run(t, folder, "send").must(t, 0)
	wholeOnDisk(t, archive, filepath.Join(disk, "????????????????????????????????"))
	run(t, folder, "send").must(t, 1, "was sent to x")
}

// TestSignedParts: an object store takes parts that are signed one by one, and puts them together; its answers are XML.
func TestSignedParts(t *testing.T) {
	h := objectStore(t)
	folder, archive := ownPortal(t, `format = "havvel-rulebook/2"
name = "Stonewharf"
[archive]
hand_over = "zip"
[key]
variable = "SHED_KEY"
where = "your page there"
[login]
by = "aws"
region = "us-east-1"
service = "s3"
[refusal]
words = ["xml //Error/Message"]
key = [403]
[[send]]
step = "begin"
method = "POST"
address = "{address}/lanes/{game.short}-{version}.zip?uploads="
expect = [200]
take = { upload = "xml //UploadId" }
[[send]]
step = "part"
each = "piece in pieces(archive, '6 MB')"
parallel = 3
method = "PUT"
address = "{address}/lanes/{game.short}-{version}.zip?partNumber={piece.number}&uploadId={url(upload)}"
file = "piece"
expect = [200]
take = { tags = "header ETag" }
[[send]]
step = "complete"
method = "POST"
address = "{address}/lanes/{game.short}-{version}.zip?uploadId={url(upload)}"
text = "<CompleteMultipartUpload>{join(map(tags, '<Part><PartNumber>' + string(#index + 1) + '</PartNumber><ETag>' + xml(#) + '</ETag></Part>'), '')}</CompleteMultipartUpload>"
headers = { Content-Type = "application/xml" }
expect = [200]
no = 'text contains "<Error>"'
again = true
`, "http://127.0.0.1:"+h.port, 23<<20)
	run(t, folder, "rules", "check", "x.toml").must(t, 0)
	runWith(t, folder, []string{"SHED_KEY=moth:other"}, "send").must(t, 1)
	runWith(t, folder, h.env, "send").must(t, 0)
	wholeOnDisk(t, archive, filepath.Join(filepath.Dir(h.root), "lane-0.4.0.zip"))
}
