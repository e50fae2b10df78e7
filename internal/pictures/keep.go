package pictures

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"havvel/internal/atomicfile"
	"havvel/internal/project"
)

// file is where a cut is kept.
func (c *Cut) file(format string) string {
	name := c.Name
	if c.Number > 1 {
		name += "-" + strconv.Itoa(c.Number)
	}
	ending := map[string]string{"jpeg": "jpg"}[format]
	if ending == "" {
		ending = format
	}
	return name + "." + ending
}

func folder(p *project.Project, destination string) string {
	return filepath.Join(p.Folder, ".havvel", "pictures", destination)
}

// keep writes a cut, and beside it what is known of it.
func (c *Cut) keep(p *project.Project, data []byte, format string) error {
	c.Path, c.Bytes = filepath.Join(folder(p, c.Destination), c.file(format)), int64(len(data))
	sum := sha256.Sum256(data)
	c.SHA256 = hex.EncodeToString(sum[:])
	if err := atomicfile.Bytes(c.Path, data); err != nil {
		return err
	}
	about, err := json.Marshal(c)
	if err != nil {
		return err
	}
	return atomicfile.Bytes(c.note(p), about)
}

// note is the file that says what is known of a cut.
func (c *Cut) note(p *project.Project) string {
	return filepath.Join(folder(p, c.Destination), "."+c.Name+"-"+strconv.Itoa(c.Number)+".json")
}

// still is the file that shows what a film shows first, where a browser has read that.
func (c *Cut) still() string {
	return filepath.Join(filepath.Dir(c.Path), "."+c.Name+"-"+c.SHA256[:12]+".png")
}

// film reports whether a cut is one that a browser has to draw.
func (c *Cut) film() bool { return strings.HasPrefix(c.Type, "video/") }

// Unseen reports whether a cut is a film of which nothing is to be seen, and that browser hasn't tried it.
func (c *Cut) Unseen(browser string) bool { return c.unseen() && c.undrawnBy() != browser }

func (c *Cut) unseen() bool { return c.film() && firstOf(c) == nil }

// undrawnBy is the browser that couldn't draw a film; "" where none has tried, or one could.
func (c *Cut) undrawnBy() string {
	text, err := os.ReadFile(c.still())
	if err != nil || !bytes.HasPrefix(text, []byte(undrawnBy)) {
		return ""
	}
	return string(text[len(undrawnBy):])
}

const undrawnBy = "not drawn by "

// Show keeps what a film shows first (PNG), as that browser draws it, for the sheet; nothing where it can't.
func (c *Cut) Show(picture []byte, browser string) error {
	if len(picture) == 0 {
		picture = []byte(undrawnBy + browser)
	}
	return atomicfile.Bytes(c.still(), picture)
}

// known takes over what was cut before, when it was made from the same in the same way and still lies there.
func (c *Cut) known(p *project.Project) bool {
	data, err := os.ReadFile(c.note(p))
	before := *c
	if err != nil || json.Unmarshal(data, &before) != nil || before.Key != c.Key {
		return false
	}
	before.Path = filepath.Join(folder(p, c.Destination), filepath.Base(before.Path))
	if sum, err := hashOf(before.Path); err != nil || sum != before.SHA256 {
		return false
	}
	*c = before
	return true
}

func hashOf(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(hash.Sum(nil)), nil
}
