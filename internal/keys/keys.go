// Package keys keeps the credentials for destinations in one file of the user's configuration folder that only the user
// can read. A key is bound to the host that it was set for: a project file can't lead it elsewhere.
package keys

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/disk"

	"github.com/adrg/xdg"
	"github.com/gofrs/flock"
)

// A Key is what opens one destination.
type Key struct {
	Name   string    `json:"name"` // of the destination
	Host   string    `json:"host"` // that it may be told to
	Secret string    `json:"secret"`
	Set    time.Time `json:"set"`
}

// A Ring is the file with all keys.
type Ring struct {
	path string
	fs   disk.FS // nil for that of this machine
}

// Variable names the environment variable that names another file.
const Variable = "HAVVEL_KEYS"

// Open returns the user's ring. Its file need not exist yet.
func Open() *Ring {
	if path := os.Getenv(Variable); path != "" {
		return &Ring{path: path}
	}
	xdg.Reload()
	return &Ring{path: filepath.Join(xdg.ConfigHome, "havvel", "keys.json")}
}

// Path is where the keys are kept.
func (r *Ring) Path() string { return r.path }

// List returns all keys, by name and host.
func (r *Ring) List() ([]Key, error) {
	data, err := os.ReadFile(r.path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the keys: %w", err)
	}
	var list []Key
	if json.Unmarshal(data, &list) != nil {
		return nil, fmt.Errorf("the file with the keys, %s, is damaged; take it away and set the keys again", r.path)
	}
	return list, nil
}

// Find returns the key for a destination on a host, and the hosts for which there are others of that name.
func (r *Ring) Find(name, host string) (secret string, others []string, err error) {
	list, err := r.List()
	for _, k := range list {
		switch {
		case k.Name == name && k.Host == host:
			return k.Secret, nil, nil
		case k.Name == name:
			others = append(others, k.Host)
		}
	}
	return "", others, err
}

// Set keeps a key, in place of one with the same name and host.
func (r *Ring) Set(k Key) error {
	return r.change(func(list []Key) []Key {
		list = slices.DeleteFunc(list, func(o Key) bool { return o.Name == k.Name && o.Host == k.Host })
		list = append(list, k)
		slices.SortFunc(list, func(a, b Key) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Host, b.Host)) })
		return list
	})
}

// Forget takes all keys of a name away, and says how many there were.
func (r *Ring) Forget(name string) (n int, err error) {
	err = r.change(func(list []Key) []Key {
		left := slices.DeleteFunc(slices.Clone(list), func(k Key) bool { return k.Name == name })
		n = len(list) - len(left)
		return left
	})
	return n, err
}

// change rewrites the file, whole or not at all, and alone.
func (r *Ring) change(f func([]Key) []Key) error {
	if err := os.MkdirAll(filepath.Dir(r.path), 0o700); err != nil {
		return fmt.Errorf("keeping the keys: %w", err)
	}
	lock := flock.New(r.path + ".lock")
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("keeping the keys: %w", err)
	}
	defer lock.Unlock()
	list, err := r.List()
	if err != nil {
		return err
	}
	data, err := json.MarshalIndent(f(list), "", "  ")
	if err != nil {
		return err
	}
	if err := (atomicfile.Writer{FS: r.fs}).Bytes(r.path, 0o600, append(data, '\n')); err != nil {
		return fmt.Errorf("keeping the keys: %w", err)
	}
	return nil
}
