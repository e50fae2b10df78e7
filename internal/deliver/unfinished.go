package deliver

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"

	"havvel/internal/atomicfile"
	"havvel/internal/deliver/portal"
	"havvel/internal/project"
)

// unfinished is an upload that broke off, as it is kept in the project's .havvel until it ended.
type unfinished struct {
	Address string          `json:"address"`
	SHA256  string          `json:"sha256"` // of the archive
	Version string          `json:"version"`
	Recipe  string          `json:"recipe"` // hash of the steps
	Upload  portal.Progress `json:"upload"`
}

// A memory keeps how far the upload of one archive to one destination is.
type memory struct {
	path string
	now  unfinished
}

func (c *Courier) memory(d *project.Destination, p Parcel) *memory {
	m := &memory{path: filepath.Join(c.Project.Folder, ".havvel", "uploads", d.Name+".json")}
	steps, _ := json.Marshal(d.Rules.Send) // plain data has a JSON form
	sum := sha256.Sum256(steps)
	m.now = unfinished{Address: d.Address, SHA256: p.Archive.SHA256, Version: p.Version, Recipe: hex.EncodeToString(sum[:8])}
	return m
}

// from is where an earlier try got to; the beginning when there was none, or of something else.
func (m *memory) from() portal.Progress {
	var u unfinished
	data, err := os.ReadFile(m.path)
	if err != nil || json.Unmarshal(data, &u) != nil || u.Address != m.now.Address || u.SHA256 != m.now.SHA256 || u.Version != m.now.Version ||
		u.Recipe != m.now.Recipe {
		return portal.Progress{}
	}
	return u.Upload
}

// keep writes down how far the upload is. When that fails, a broken upload begins anew, and nothing else is lost.
func (m *memory) keep(p portal.Progress) {
	if p.Done == 0 && p.Location == "" {
		return
	}
	m.now.Upload = p
	if data, err := json.Marshal(m.now); err == nil {
		_ = atomicfile.Bytes(m.path, data)
	}
}

func (m *memory) forget() { os.Remove(m.path) }
