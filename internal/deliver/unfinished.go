package deliver

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"

	"havvel/internal/deliver/portal"
	"havvel/internal/fault"
	"havvel/internal/project"
	"havvel/internal/rulebook"
)

// unfinished is an upload that has not ended, as the first line of its file in the project's .havvel says. Each other line is a request
// that was made.
type unfinished struct {
	Address string `json:"address"`
	SHA256  string `json:"sha256"` // of the archive
	Version string `json:"version"`
	Recipe  string `json:"recipe"` // hash of the steps
}

// written is one request.
type written struct {
	Key string `json:"request"`
	portal.Entry
}

// A memory keeps how far the upload of one archive to one destination is.
type memory struct {
	path string
	now  unfinished
	held *flock.Flock
}

func (c *Courier) memory(d *project.Destination, p Parcel, steps []rulebook.Step) *memory {
	folder := filepath.Join(c.Project.Folder, ".havvel", "uploads")
	m := &memory{path: filepath.Join(folder, d.Name+".jsonl"), held: flock.New(filepath.Join(folder, d.Name+".lock"))}
	definition, _ := json.Marshal(steps) // plain data has a JSON form
	sum := sha256.Sum256(definition)
	m.now = unfinished{Address: d.Address, SHA256: p.Archive.SHA256, Version: p.Version, Recipe: hex.EncodeToString(sum[:8])}
	return m
}

// lock keeps other processes from uploading to the same destination.
func (m *memory) lock() error {
	if err := os.MkdirAll(filepath.Dir(m.path), 0o700); err != nil {
		return fmt.Errorf("remembering how far the upload is: %w", err)
	}
	mine, err := m.held.TryLock()
	if err != nil {
		return fmt.Errorf("remembering how far the upload is: %w", err)
	}
	if !mine {
		return fault.New(fault.No, "another havvel is uploading there from this project").Then("wait until it has ended")
	}
	return nil
}

func (m *memory) unlock() { m.held.Unlock() }

// ledger is what an earlier try has made, and goes on to be written. What can't be written down would be made twice after a crash, and
// no other way round, so that is left to the disk.
func (m *memory) ledger() *portal.Ledger {
	entries := m.read()
	l := portal.NewLedger(entries)
	head, _ := json.Marshal(m.now)
	lines := [][]byte{head}
	for key, e := range entries {
		line, _ := json.Marshal(written{key, e})
		lines = append(lines, line)
	}
	begun := false
	l.Write = func(key string, e portal.Entry) {
		if !begun {
			begun = os.WriteFile(m.path, append(bytes.Join(lines, []byte("\n")), '\n'), 0o600) == nil && os.Chmod(m.path, 0o600) == nil
		}
		line, err := json.Marshal(written{key, e})
		if err != nil {
			return
		}
		f, err := os.OpenFile(m.path, os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return
		}
		defer f.Close()
		f.Write(append(line, '\n'))
	}
	return l
}

// read returns what an earlier try has made; nothing when there was none, or one of something else.
func (m *memory) read() map[string]portal.Entry {
	data, err := os.ReadFile(m.path)
	entries := map[string]portal.Entry{}
	if err != nil {
		return entries
	}
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, len(data)+1)
	var u unfinished
	if !lines.Scan() || json.Unmarshal(lines.Bytes(), &u) != nil || u != m.now {
		return entries
	}
	for lines.Scan() {
		var w written
		switch {
		case json.Unmarshal(lines.Bytes(), &w) != nil: // cut short
		case w.Hash == "" && w.UUID == "":
			delete(entries, w.Key)
		default:
			entries[w.Key] = w.Entry
		}
	}
	return entries
}

func (m *memory) forget() { os.Remove(m.path) }
