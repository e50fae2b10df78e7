package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"havvel/internal/atomicfile"
)

// state is all that an arcade remembers; it is written whole after every change.
type state struct {
	Games    map[string]*game    `json:"games"`    // by short name
	Versions map[string]*version `json:"versions"` // by id
}

type game struct {
	Short  string `json:"short"`
	Title  string `json:"title"`
	Studio string `json:"studio"`
	Live   string `json:"live"` // id of the version that is public, or ""

	Leaderboards []*leaderboard `json:"leaderboards,omitempty"`

	Fields   map[string]any      `json:"fields,omitempty"`
	Pictures []shown             `json:"pictures,omitempty"`
	Uploads  []shown             `json:"uploads,omitempty"`  // that the page may show
	Declared map[string][]string `json:"declared,omitempty"` // by version
}

// A leaderboard keeps one value of each player's.
type leaderboard struct {
	Name   string             `json:"name"`
	Label  string             `json:"label"`
	Unit   string             `json:"unit"`
	Hidden bool               `json:"hidden"`
	Keeps  string             `json:"keeps"` // highest, lowest, total or latest
	Values map[string]float64 `json:"values"`
}

// The arcade's words for the state of a version.
const (
	awaiting = "awaiting" // its archive
	checking = "checking"
	ready    = "ready"
	rejected = "rejected"
	live     = "live"
	past     = "past"    // was live
	resting  = "resting" // was live, and was taken off
)

type version struct {
	ID       string    `json:"id"`
	Game     string    `json:"game"`
	Version  string    `json:"version"`
	State    string    `json:"state"`
	SHA256   string    `json:"sha256"`
	Secret   string    `json:"secret"` // in its draft link
	Problems []problem `json:"problems"`
	Made     time.Time `json:"made"`

	Password string   `json:"password,omitempty"` // of those who may see it
	Bytes    int64    `json:"bytes,omitempty"`    // of a resumable upload
	Entry    *arrival `json:"entry,omitempty"`    // of an upload in two parts
	Rest     *arrival `json:"rest,omitempty"`
}

// An arrival is a part that was announced.
type arrival struct {
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
	Here   bool   `json:"here"`
}

type problem struct {
	File  string `json:"file"`
	Words string `json:"words"`
}

func (a *Portal) load() error {
	a.state = state{Games: map[string]*game{}, Versions: map[string]*version{}}
	data, err := os.ReadFile(a.stateFile())
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(data, &a.state)
	}
	if err != nil {
		return fmt.Errorf("reading what the stand-in %s remembers: %w", a.options.Name, err)
	}
	return nil
}

func (a *Portal) stateFile() string { return filepath.Join(a.options.Folder, "state.json") }

func (a *Portal) archive(v string) string {
	return filepath.Join(a.options.Folder, "archives", v+".zip")
}

// change runs f on the state, alone, and writes the state down. When that fails, nothing is changed in
// memory that a restart would not find, but for what f did; the error is for the uploader.
func (a *Portal) change(f func(*state) error) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := f(&a.state); err != nil {
		return err
	}
	data, err := json.MarshalIndent(a.state, "", "  ")
	if err != nil {
		return err
	}
	return atomicfile.Bytes(a.stateFile(), data)
}

// versionByID returns a copy, so that it can be read without the lock.
func (a *Portal) versionByID(id string) (version, bool) {
	return a.find(func(v *version) bool { return v.ID == id })
}

func (a *Portal) find(is func(*version) bool) (version, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, v := range a.state.Versions {
		if is(v) {
			return *v, true
		}
	}
	return version{}, false
}

func (a *Portal) gameByShort(short string) (game, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if g, ok := a.state.Games[short]; ok {
		return *g, true
	}
	return game{}, false
}

func (a *Portal) unverified() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	var list []string
	for _, v := range a.state.Versions {
		if v.State == checking || v.State == looking {
			list = append(list, v.ID)
		}
	}
	return list
}
