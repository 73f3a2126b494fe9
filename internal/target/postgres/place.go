package postgres

import (
	"regexp"
	"strings"

	"hiddengate/internal/target"
)

// signature is the name of a routine with its arguments, as far as they can stand in a statement as they are.
var signature = regexp.MustCompile(`^(.+)\(([A-Za-z0-9_ ,.\[\]]*)\)$`)

// objectOf gives what a place of an inventory is in a database of some name.
func objectOf(p target.Place, base string) object {
	if p.Path == "" {
		return object{kind: database, name: base}
	}
	if p.Type == "setting" {
		return object{kind: parameter, name: settingOf(p)}
	}
	before, after, inside := strings.Cut(p.Path, "/")
	name := target.Unescaped(before)
	if !inside {
		return object{kind: schema, name: name}
	}
	one := object{kind: relation, schema: name, name: target.Unescaped(after)}
	if p.Type == "function" {
		one.kind = routine
		if parts := signature.FindStringSubmatch(one.name); parts != nil {
			one.name, one.args = parts[1], parts[2]
		}
	}
	return one
}
