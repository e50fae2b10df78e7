package rulebook

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/expr-lang/expr/types"

	"havvel/internal/rulebook/expression"
)

// names are the values that a step can use.
type names expression.Names

var (
	text     = types.String
	number   = types.Int
	file     = types.TypeOf(expression.File{})
	files    = types.TypeOf([]expression.File{})
	textList = types.TypeOf([]string{})
	anyOf    = types.Array(types.Any)
)

var valueName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

func (n names) has(name string) bool { _, ok := n[name]; return ok }

func (n names) clone() names { return maps.Clone(n) }

// list is all names as they are written, those of objects with what they have.
func (n names) list() []string {
	var list []string
	for name, t := range n {
		m, ok := t.(types.Map)
		if !ok {
			list = append(list, name)
		}
		for inner := range m {
			if inner != types.Extra {
				list = append(list, name+"."+inner)
			}
		}
	}
	slices.Sort(list)
	return list
}

func with(n names, more names) names {
	all := n.clone()
	maps.Copy(all, more)
	return all
}

// given are the values that every step can use without taking them.
func (r *Rulebook) given() names {
	own := types.Map{}
	for _, v := range r.Values {
		own[v.Name] = text
	}
	n := names{
		"address": text, "key": text, "key_id": text, "key_secret": text, "version": text, "fingerprint": text,
		"game":    types.Map{"title": text, "short": text, "studio": text, "statistics": anyOf},
		"archive": types.Map{"bytes": number, "sha256": text}, "to": own,
		"now":  types.TypeOf(func(...string) (string, error) { return "", nil }),
		"uuid": types.TypeOf(func() string { return "" }),
		"body": types.Map{"sha256": text, "sha1": text, "md5": text, "bytes": number},
	}
	return n
}

// handed are the files that a step of [[send]] can carry.
func (r *Rulebook) handed() names {
	switch r.Archive.HandOver {
	case "entry-apart":
		return names{"entry": file, "rest": file}
	case "folder":
		return names{"files": files}
	}
	return names{"archive": file}
}

// ofAnswer are the values that yes, no, until and set know beside those taken.
func ofAnswer() names {
	return names{"status": number, "headers": types.Map{types.Extra: text}, "answer": types.Any, "text": text}
}

// ofPage are the values that fill steps can use.
func (r *Rulebook) ofPage() names {
	fields := types.Map{}
	for _, f := range r.Fields {
		fields[f.Name] = types.Any
	}
	return names{
		"page":     types.Map{"fields": types.Any, "leaderboards": anyOf, "declarations": anyOf, "pictures": anyOf},
		"field":    fields,
		"pictures": files, "locales": anyOf,
		"leaderboards": types.Map{"now": anyOf, "new": anyOf, "changed": anyOf, "gone": anyOf},
	}
}

// secretWords are what the names of secrets hold.
var secretWords = []string{"secret", "token", "password", "cookie", "signature", "credential", "credentials", "passphrase", "apikey"}

// Secretive reports whether a value is a secret by its name.
func Secretive(name string) bool {
	name = strings.ToLower(name)
	return name == "key" || strings.HasPrefix(name, "key_") || strings.HasSuffix(name, "_key") ||
		slices.ContainsFunc(secretWords, func(w string) bool {
			return slices.Contains(strings.Split(name, "_"), w) || strings.HasSuffix(name, w)
		})
}
