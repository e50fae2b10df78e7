package project

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"

	"havvel/internal/fault"
	"havvel/internal/keys"
	"havvel/internal/rulebook"
	"havvel/internal/settings"
)

// resolve works out what a destination is, and reports what is wrong with it.
func (d *Destination) resolve(doc *settings.Document, folder string) {
	defer d.verifyKey(doc)
	defer d.verifyValues(doc)
	if d.resolveSite(doc, folder) {
		return
	}
	if scheme, _, ok := strings.Cut(d.Address, "://"); d.Rulebook == "" && ok {
		doc.Wrong(d.path+".address", "begins with %s://, which is no way to reach a site", scheme).
			Then("a site's address is one of: %s; a portal needs a rulebook, too", Sites())
		return
	}
	if d.Rulebook == "" {
		doc.Wrong(d.path+".rulebook", "is missing").
			Then("name one that ships with Havvel (%s), or a file of your own; a site has an address instead: %s",
				strings.Join(rulebook.Names(), ", "), Sites())
		return
	}
	rules, err := rulebook.Find(d.Rulebook, folder)
	if err != nil {
		doc.Add(d.path+".rulebook", err)
		return
	}
	d.Rules = rules
	if d.Address == "" {
		d.Address = rules.Address
	}
	d.Address = strings.TrimRight(d.Address, "/")
	if d.Encode != "plain" {
		doc.Within(d.path+".encode", d.Encode, append([]string{"plain"}, rules.Serves.Encodings...)...)
	}
	if err := verifyAddress(d.Address); err != nil {
		doc.Add(d.path+".address", err)
	}
	if d.Key == "" {
		d.Key = keyOf(d.Name, rules)
	}
}

// keyOf says where the key of a portal is that havvel.toml says nothing of; "" for a portal that wants none.
func keyOf(name string, r *rulebook.Rulebook) string {
	switch {
	case r.Key.Variable != "":
		return "env:" + r.Key.Variable
	case r.WantsKey():
		return usualKey(name)
	}
	return ""
}

func usualKey(name string) string {
	return "env:" + strings.ToUpper(strings.ReplaceAll(name, "-", "_")) + "_KEY"
}

func (d *Destination) verifyKey(doc *settings.Document) {
	if d.Key != "" && !strings.HasPrefix(d.Key, "env:") {
		doc.Wrong(d.path+".key", `must say where the key is, as in "env:MY_KEY"; never write the key itself into this file`).
			Then("havvel keys set %s stores it", d.Name)
	}
}

// verifyAddress refuses addresses over which a key would travel in the clear to another machine.
func verifyAddress(address string) error {
	if address == "" {
		return errors.New("the rulebook names no address, so one is needed here: address = \"https://…\" (havvel start --address)")
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || (u.Scheme != "https" && u.Scheme != "http") {
		return fmt.Errorf("address %q is not an https:// address", redacted(address))
	}
	if u.User != nil {
		return errors.New("address holds a user name or password; leave it out and name the key with key = \"env:NAME\"")
	}
	if u.Scheme == "http" && !loopback(u.Hostname()) {
		return fmt.Errorf("address %q is http: the key would travel in the clear; use https", address)
	}
	return nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func redacted(address string) string {
	if u, err := url.Parse(address); err == nil {
		return u.Redacted()
	}
	return "(unreadable)"
}

// Trying is a destination that havvel.toml does not name: a rulebook at an address, its own when that is "".
func (p *Project) Trying(r *rulebook.Rulebook, address string) (*Destination, error) {
	d := &Destination{Name: "try", tried: true, Rules: r, Address: strings.TrimRight(address, "/")}
	if d.Address == "" {
		d.Address = r.Address
	}
	d.Key = keyOf(d.Name, r)
	return d, verifyAddress(d.Address)
}

// Plants reports whether pack may plant the portal's scripts.
func (d *Destination) Plants() bool { return d.Plant == nil || *d.Plant }

// Secret returns the destination's key: from the environment variable that the project names, or else as it was stored; "" for
// a site that has none. The error says what to set.
func (d *Destination) Secret() (string, error) {
	variable := strings.TrimPrefix(d.Key, "env:")
	if key := os.Getenv(variable); variable != "" && key != "" {
		return key, nil
	}
	if d.Key == "" && d.site == nil {
		return "", nil
	}
	key, others, err := keys.Open().Find(d.Name, d.Host())
	if key != "" || err != nil {
		return key, err
	}
	if d.Key == "" {
		return "", nil
	}
	hint := ""
	if d.Rules.Key.Where != "" {
		hint = "; you find the key here: " + d.Rules.Key.Where
	}
	if len(others) > 0 {
		hint += fmt.Sprintf(
			"; the key that is stored for %s belongs to %s, and is never sent to %s",
			d.Name,
			strings.Join(others, ", "),
			d.Host(),
		)
	}
	if d.tried {
		return "", fault.New(fault.Here, "%s needs a key", d.Rules.Name).Then("set the environment variable %s%s", variable, hint)
	}
	return "", fault.New(fault.Here, "%s needs a key", d.Name).
		Then("havvel keys set %s stores it, or set the environment variable %s%s", d.Name, variable, hint)
}

// A Filled value is one that the rulebook asks for, and what it is here.
type Filled struct {
	rulebook.Value
	Text string
}

// Filled are the values that the rulebook asks for: from havvel.toml, or where they are secrets from an environment variable or as they
// were stored. The error says what is missing.
func (d *Destination) Filled() ([]Filled, error) {
	var list []Filled
	for _, v := range d.Rules.Values {
		f := Filled{v, cmp.Or(d.Values[v.Name], v.Default)}
		if v.Secret {
			var err error
			if f.Text, err = d.secretValue(v); err != nil {
				return nil, err
			}
		}
		switch {
		case f.Text == "" && v.Secret:
			return nil, fault.New(fault.Here, "%s needs %s: %s", d.Name, v.Name, v.Says).
				Then("havvel keys set %s %s stores it, or set the environment variable %s", d.Name, v.Name, d.VariableOf(v.Name))
		case f.Text == "":
			return nil, fault.New(fault.Usage, "%s needs %s: %s", d.Name, v.Name, v.Says).
				Then("write it in %s: %s = \"…\" under [to.%s.values]", Name, v.Name, d.Name)
		}
		list = append(list, f)
	}
	return list, nil
}

// secretValue is a value from an environment variable, or as it was stored; "" when there is none.
func (d *Destination) secretValue(v rulebook.Value) (string, error) {
	if text := os.Getenv(d.VariableOf(v.Name)); text != "" {
		return text, nil
	}
	text, _, err := keys.Open().Find(d.KeyOf(v.Name), d.Host())
	return text, err
}

// Missing are the secret values that the rulebook asks for and that are not there.
func (d *Destination) Missing() ([]rulebook.Value, error) {
	var list []rulebook.Value
	for _, v := range d.Rules.Values {
		if !v.Secret {
			continue
		}
		text, err := d.secretValue(v)
		if err != nil {
			return nil, err
		}
		if text == "" {
			list = append(list, v)
		}
	}
	return list, nil
}

// Asked are the values that the rulebook asks for and that are no secrets.
func (d *Destination) Asked() []rulebook.Value {
	if d.Rules == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(d.Rules.Values), func(v rulebook.Value) bool { return v.Secret })
}

// Give gives a value that the rulebook asks for; "" changes nothing.
func (d *Destination) Give(name, text string) {
	if text == "" {
		return
	}
	if d.Values == nil {
		d.Values = map[string]string{}
	}
	d.Values[name] = text
}

// VariableOf is the environment variable that may hold a secret value of the destination.
func (d *Destination) VariableOf(value string) string {
	return strings.ToUpper(strings.ReplaceAll(d.Name+"_"+value, "-", "_"))
}

// KeyOf is the name under which a secret value of the destination is kept with the keys.
func (d *Destination) KeyOf(value string) string { return d.Name + " " + value }

// verifyValues reports values that the rulebook doesn't ask for.
func (d *Destination) verifyValues(doc *settings.Document) {
	if d.Rules == nil {
		return
	}
	var names []string
	for _, v := range d.Rules.Values {
		names = append(names, v.Name)
		if text, set := d.Values[v.Name]; set {
			at := d.path + ".values." + v.Name
			if v.Secret {
				doc.Wrong(at, "is a secret, which doesn't belong into this file").Then("havvel keys set %s %s stores it", d.Name, v.Name)
			}
			if len(v.OneOf) > 0 {
				doc.Within(at, text, v.OneOf...)
			}
		}
	}
	for name := range d.Values {
		if !slices.Contains(names, name) {
			f := doc.Wrong(d.path+".values."+name, "is nothing that the rulebook of %s asks for", d.Rules.Name)
			if near := settings.Nearest(name, names); near != "" {
				f.Then("did you mean %q?", near)
			}
		}
	}
}
