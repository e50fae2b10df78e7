package tests

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"havvel/internal/export"
	"havvel/internal/export/encoding"
)

// A compressor is a reference tool for one format, and how it is called.
type compressor struct {
	format, ending string
	args           []string // reads standard input and writes standard output
}

func compressors() []compressor {
	var list []compressor
	for q := range 12 {
		for _, window := range []int{10, 16, 22, 24} {
			if window != 22 && q%5 != 0 {
				continue
			}
			list = append(list, compressor{encoding.Brotli, ".br", []string{"brotli", "-c", "-q", fmt.Sprint(q), "-w", fmt.Sprint(window), "-"}})
		}
	}
	for _, q := range []int{1, 6, 9} {
		list = append(
			list,
			compressor{encoding.Gzip, ".gz", []string{"gzip", fmt.Sprint("-", q)}},
			compressor{encoding.Zlib, ".zz", []string{"pigz", "-z", fmt.Sprint("-", q)}},
		)
	}
	for _, q := range []string{"-1", "-3", "-12", "-19"} {
		list = append(list, compressor{encoding.Zstd, ".zst", []string{"zstd", q, "-q", "-c"}})
	}
	node := func(call string) []string {
		return []string{"node", "-e", "const z=require('zlib'),i=require('fs').readFileSync(0);process.stdout.write(z." + call + ")"}
	}
	return append(list,
		compressor{encoding.Gzip, ".gz", []string{"pigz", "-11", "-c"}},
		compressor{encoding.Gzip, ".gz", node("gzipSync(i,{level:9,memLevel:9})")},
		compressor{encoding.Brotli, ".br", node("brotliCompressSync(i)")},
		compressor{encoding.Zlib, ".zz", node("deflateSync(i)")},
		compressor{encoding.Raw, ".raw", node("deflateRawSync(i)")})
}

// TestReferenceTools: what the formats' own tools write is known, by any name where there is enough of it, and decodes to what it was.
func TestReferenceTools(t *testing.T) {
	t.Parallel()
	for _, tool := range []string{"brotli", "gzip", "pigz", "zstd", "node"} {
		partner(t, tool)
	}
	contents := [][]byte{
		{},
		[]byte(";"),
		[]byte("lamp"),
		static(700),
		static(300_000),
		prose(900),
		prose(70_000),
		prose(3_000_000),
		bytes.Repeat([]byte{0}, 500_000),
	}
	if testing.Short() {
		contents = contents[:7]
	}
	folder := t.TempDir()
	want := map[string]compressor{}
	plain := map[string][]byte{}
	for i, c := range compressors() {
		for j, content := range contents {
			if len(content) > 50_000 && (i%5 > 0 || slices.Contains(c.args, "-11")) {
				continue
			}
			cmd := exec.Command(c.args[0], c.args[1:]...)
			cmd.Stdin = bytes.NewReader(content)
			out, err := cmd.Output()
			if err != nil {
				t.Fatalf("%v: %v", c.args, err)
			}
			for _, name := range []string{fmt.Sprintf("%d-%d.bin%s", i, j, c.ending), fmt.Sprintf("%d-%d.level", i, j)} {
				if strings.HasSuffix(name, ".level") && (len(content) < 100 || len(out) < 40) {
					continue // of so few bytes nothing can be told but by the name
				}
				if c.ending == ".zz" || c.ending == ".raw" {
					if len(out) < 40 {
						continue // likewise
					}
				}
				if err := os.WriteFile(filepath.Join(folder, name), out, 0o644); err != nil {
					t.Fatal(err)
				}
				want[name], plain[name] = c, content
			}
		}
	}
	decodesTo(t, folder, want, func(name string) []byte { return plain[name] })
}

// TestLargeStreams: the same of 150 MB; it takes minutes, so make matrix runs it.
func TestLargeStreams(t *testing.T) {
	if os.Getenv("MATRIX") == "" {
		t.Skip("skipped: make matrix runs it")
	}
	var content []byte
	for i := 0; len(content) < 150_000_000; i++ {
		content = append(append(content, prose(3_000_000)...), static(500_000+i)...)
	}
	folder := t.TempDir()
	want := map[string]compressor{}
	for i, c := range compressors() {
		slow := slices.Contains(c.args, "11") || slices.Contains(c.args, "10") || slices.Contains(c.args, "-11") || slices.Contains(c.args, "-19")
		if slow || c.args[0] == "brotli" && i%4 > 0 {
			continue
		}
		name := fmt.Sprintf("%d.bin%s", i, c.ending)
		f, err := os.Create(filepath.Join(folder, name))
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(c.args[0], c.args[1:]...)
		cmd.Stdin, cmd.Stdout = bytes.NewReader(content), f
		if err := errors.Join(cmd.Run(), f.Close()); err != nil {
			t.Fatalf("%v: %v", c.args, err)
		}
		want[name] = c
	}
	decodesTo(t, folder, want, func(string) []byte { return content })
}

// decodesTo reads an export, and fails for each file whose format is not known or that decodes to something else than plain says.
func decodesTo(t *testing.T, folder string, want map[string]compressor, plain func(name string) []byte) {
	t.Helper()
	b, err := export.Read(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range want {
		f := b.File(name)
		if f == nil || f.Encoding != c.format || f.Damage != "" || f.Unfit != "" || f.Decoded != int64(len(plain(name))) {
			t.Errorf("%s, by %s of %d bytes: %+v", name, strings.Join(c.args, " "), len(plain(name)), f)
			continue
		}
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		d := encoding.NewReader(r, f.Encoding)
		sum := sha256.New()
		if _, err := io.Copy(sum, d); err != nil || [sha256.Size]byte(sum.Sum(nil)) != sha256.Sum256(plain(name)) {
			t.Errorf("%s decodes to something else: %v", name, err)
		}
		d.Close()
		r.Close()
	}
}

// static is bytes that don't compress, the same each time.
func static(n int) []byte {
	r := rand.NewChaCha8([32]byte{7})
	b := make([]byte, n)
	r.Read(b)
	return b
}

// prose is text that compresses about as scripts do.
func prose(n int) []byte {
	r := rand.New(rand.NewPCG(1, 2))
	var b bytes.Buffer
	for b.Len() < n {
		fmt.Fprintf(&b, "let lamp%d = wick(%d) + %q;\n", r.IntN(500), r.IntN(90000), static(6)[r.IntN(5):])
	}
	return b.Bytes()[:n]
}
