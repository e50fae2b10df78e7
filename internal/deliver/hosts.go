package deliver

import (
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"havvel/internal/atomicfile"
	"havvel/internal/deliver/site"
)

// hostsName is the file in a project's cache that says what its hosts can do, by their addresses without users and folders.
const hostsName = "hosts.json"

// believed is how long that is taken for true: hosts change, too.
const believed = 7 * 24 * time.Hour

// knownHost is what was found out about a host.
type knownHost struct {
	At        time.Time      `json:"at"`
	Abilities map[string]int `json:"abilities"`
}

func (c *Courier) hostsFile() string { return filepath.Join(c.Project.CacheFolder(), hostsName) }

// hosts are those that are known; none where the file isn't there, or can't be read.
func (c *Courier) hosts() map[string]knownHost {
	var all map[string]knownHost
	data, err := os.ReadFile(c.hostsFile())
	if err != nil || json.Unmarshal(data, &all) != nil || all == nil {
		return map[string]knownHost{}
	}
	return all
}

func hostName(u *url.URL) string { return u.Scheme + "://" + u.Host }

// abilities are what an earlier command found out about a host.
func (c *Courier) abilities(u *url.URL) *site.Abilities {
	if c.Project == nil || u.Host == "" {
		return nil
	}
	h := c.hosts()[hostName(u)]
	if c.Now().Sub(h.At) > believed {
		h.Abilities = nil
	}
	return site.NewAbilities(h.Abilities)
}

// remember keeps what was found out about a host for the next command. Where that can't be written, it is found out again.
func (c *Courier) remember(u *url.URL, a *site.Abilities) {
	known, changed := a.Changed()
	if !changed {
		return
	}
	all := c.hosts()
	at := all[hostName(u)].At
	if c.Now().Sub(at) > believed {
		at = c.Now().UTC()
	}
	all[hostName(u)] = knownHost{at, known}
	if data, err := json.MarshalIndent(all, "", "  "); err == nil {
		_ = atomicfile.Bytes(c.hostsFile(), append(data, '\n')) // a cache
	}
}
