package export

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestKindOf(t *testing.T) {
	for name, c := range map[string]struct {
		head     string
		encoding string
		kind     Kind
	}{
		"a.wasm":      {"\x00asm\x01\x00\x00\x00", "", KindWasm},
		"strange.bin": {"\x00asm\x01\x00\x00\x00", "", KindWasm}, // content before name
		"a.js":        {"let a = 1", "", KindScript},
		"b.data":      {"\x00\x01\x02", "", KindData},
		"c.unknown":   {"just words", "", KindText},
		"d":           {"<!DOCTYPE HTML><p>", "", KindPage},
		"e.gz": {"\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\xff\xcaH\xcd\xc9\xc9\x07\x04\x00\x00\xff\xff\x86\xa6\x106\x05\x00\x00\x00",
			"gzip", KindText},
		"f.css.br": {"\x0b\x02\x80hello\x03", "br", KindStyle},
		"g.br":     {"not brotli at all", "", KindText},
		"h.wav":    {"RIFF\x00\x00\x00\x00WAVEfmt ", "", KindSound},
		"i.webp":   {"RIFF\x00\x00\x00\x00WEBPVP8 ", "", KindPicture},
		"j.png":    {"", "", KindText},
	} {
		if f := readFiles(t, map[string]string{name: c.head}).File(name); f.Encoding != c.encoding || f.Kind != c.kind {
			t.Errorf("%s is %q %q, want %q %q", name, f.Encoding, f.Kind, c.encoding, c.kind)
		}
	}
}

func readFiles(t testing.TB, files map[string]string) *Build {
	t.Helper()
	folder := t.TempDir()
	for name, data := range files {
		path := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b, err := Read(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}

// TestEntry: which page a host should serve first.
func TestEntry(t *testing.T) {
	const game, plain = "<canvas></canvas><script src=a.js></script>", "<p>read me</p>"
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"at the root":          {map[string]string{"index.html": plain, "play/index.html": game}, "index.html"},
		"in a folder":          {map[string]string{"build/index.html": game, "help.html": plain}, "build/index.html"},
		"another name":         {map[string]string{"Tinderwick.html": game, "credits.html": plain}, "Tinderwick.html"},
		"letter case":          {map[string]string{"Index.html": game}, "Index.html"},
		"game before folder":   {map[string]string{"game.html": game, "docs/index.html": plain}, "game.html"},
		"more scripts":         {map[string]string{"a.html": game + game, "b.html": game}, "a.html"},
		"nothing that runs":    {map[string]string{"a.html": plain, "a.js": "1"}, ""},
		"not in version files": {map[string]string{".git/index.html": game, "a.js": "1"}, ""},
	} {
		b := readFiles(t, c.files)
		got := ""
		if b.Entry != nil {
			got = b.Entry.Path
		}
		if got != c.want {
			t.Errorf("%s: the entry page is %q, want %q", name, got, c.want)
		}
	}
}

// TestHugePage: a page that holds a whole game is an entry page, however large it is.
func TestHugePage(t *testing.T) {
	b := readFiles(
		t,
		map[string]string{
			"game.html": "<title>t</title><canvas></canvas><script>1</script><script type=data>" + strings.Repeat("QUJD", 18<<20) + "</script>",
		},
	)
	if b.Entry == nil || b.Shape != SinglePage || b.Entry.Page.Title != "t" {
		t.Errorf("%+v %s", b.Entry, b.Shape)
	}
}

// TestSymlinks: links inside the export are files of it; those that lead out are named, and never followed.
func TestSymlinks(t *testing.T) {
	folder := t.TempDir()
	secret := filepath.Join(t.TempDir(), "secret.txt")
	for path, data := range map[string]string{secret: "key", filepath.Join(folder, "index.html"): "<script></script>",
		filepath.Join(folder, "a", "b.js"): "1"} {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for name, target := range map[string]string{"out.txt": secret, "up.txt": filepath.Join("..", "x"), "in.js": filepath.Join("a", "b.js"),
		"folder": "a", "round": "round"} {
		if err := os.Symlink(target, filepath.Join(folder, name)); err != nil {
			t.Skip("this system makes no symbolic links:", err)
		}
	}
	b, err := Read(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	var parts, left []string
	for _, f := range b.Files {
		if f.Junk == "" {
			parts = append(parts, f.Path)
		} else if f.Bytes > 0 || !strings.Contains(f.Junk, "not followed") {
			t.Errorf("%+v", f)
		} else {
			left = append(left, f.Path)
		}
	}
	if got := strings.Join(parts, " ") + " | " + strings.Join(left, " "); got != "a/b.js in.js index.html | folder out.txt round up.txt" {
		t.Error(got)
	}
}

// TestChangedFile: a file that grows after its size was taken is noticed.
func TestChangedFile(t *testing.T) {
	f := &File{Path: "a.bin", Bytes: 3, open: opener("12345")}
	var unreadable *Unreadable
	if err := f.read(context.Background(), newTurns()); !errors.As(err, &unreadable) || !strings.Contains(unreadable.Next, "changed") {
		t.Errorf("%v", err)
	}
}

// FuzzZip: whatever stands in a zip, reading it ends soon, with a build or with an *Unreadable error, and no
// name leads out of it.
func FuzzZip(f *testing.F) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, data := range map[string]string{"index.html": "<script src=a.js></script>", "a.js": "1", "b/c.css": "p{background:url(d.png)}"} {
		w, err := z.Create(name)
		if err != nil {
			f.Fatal(err)
		}
		w.Write([]byte(data))
	}
	z.Close()
	f.Add(b.Bytes())
	f.Add([]byte("PK\x05\x06" + strings.Repeat("\x00", 18)))
	f.Add([]byte("PK\x03\x04"))
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(t.TempDir(), "x.zip")
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
		defer stop()
		b, err := Read(ctx, path)
		var unreadable *Unreadable
		if err != nil {
			if !errors.As(err, &unreadable) {
				t.Fatalf("%T %v", err, err)
			}
			return
		}
		defer b.Close()
		for _, file := range b.Files {
			if !safeName(file.Path) {
				t.Fatalf("%q leads out", file.Path)
			}
		}
	})
}

func opener(data string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(data)), nil }
}

// TestLinkedFolder: an export that is itself a symbolic link to a folder is that folder.
func TestLinkedFolder(t *testing.T) {
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "index.html"), []byte("<canvas></canvas>"), 0o644); err != nil {
		t.Fatal(err)
	}
	at := filepath.Join(t.TempDir(), "export")
	if err := os.Symlink(folder, at); err != nil {
		t.Skip("this system makes no symbolic links: ", err)
	}
	b, err := Read(context.Background(), at)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	if b.Entry == nil || b.Path != at {
		t.Errorf("%+v", b)
	}
}

// TestZipNames: names that programs write in other ways than the format says, and entries that only some can read.
func TestZipNames(t *testing.T) {
	for name, want := range map[string]string{
		"cp437": "büro.json", "unicode": "büro.json", "win": "Windows-1252 büro.json", "sjis": "ランタン.json", "dots": "js/game.js",
		"back": "js/game.js",
		"both": "a is a file in it, and also the folder of a/b", "encrypted": "game.js in it is encrypted",
		"deflate64": "packed with Deflate64", "bzip2": "packed with bzip2",
		"lzma": "packed with LZMA", "zstd": "packed with zstd",
	} {
		b, err := Read(context.Background(), filepath.Join("testdata", "zips", name+".zip"))
		got := ""
		if err == nil && b.Charset != "" {
			got = b.Charset + " "
		}
		if err != nil {
			got = err.Error()
		} else {
			for _, f := range b.Files {
				got += f.Path + " "
			}
			b.Close()
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
}
