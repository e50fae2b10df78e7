package deliver

import (
	"encoding/json"
	"time"

	"golang.org/x/oauth2"

	"havvel/internal/deliver/portal"
	"havvel/internal/keys"
	"havvel/internal/project"
)

// A vault keeps a log-in that a person confirmed with the keys, bound to the destination's host.
type vault struct{ to *project.Destination }

var _ portal.Vault = vault{}

func (v vault) name() string { return v.to.KeyOf("log-in") }

// Load implements portal.Vault.
func (v vault) Load() *oauth2.Token {
	text, _, err := keys.Open().Find(v.name(), v.to.Host())
	var t oauth2.Token
	if err != nil || text == "" || json.Unmarshal([]byte(text), &t) != nil {
		return nil
	}
	return &t
}

// Save implements portal.Vault.
func (v vault) Save(t *oauth2.Token) error {
	data, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return keys.Open().Set(keys.Key{Name: v.name(), Host: v.to.Host(), Secret: string(data), Set: time.Now().UTC().Truncate(time.Second)})
}
