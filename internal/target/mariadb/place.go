package mariadb

import (
	"regexp"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// kind is what sort of object rights are had on.
type kind int

const (
	server kind = iota
	schema
	relation
	routine
	pattern // the schemas whose names fit a pattern
)

// object is something on which rights are had. Where it is a place of the state, both have the same number.
type object struct {
	kind   kind
	schema string // of a relation or routine: the name of its schema
	name   string // of a pattern: as it is written
	word   string // of a routine: FUNCTION or PROCEDURE
	system bool   // it is MariaDB's own, and whoever changes it can do everything
	fits   []int  // of a pattern: the schemas, as objects
}

// text writes an object for statements that grant and revoke.
func (o *object) text() string {
	switch o.kind {
	case server:
		return "*.*"
	case schema:
		return schemaText(o.name)
	case pattern:
		return ident(o.name) + ".*"
	case routine:
		return o.word + " " + identIn(o.schema, o.name)
	}
	return identIn(o.schema, o.name)
}

// own are the schemas that are MariaDB's own. What stands in the first decides who may do what.
var own = []string{"mysql", "information_schema", "performance_schema", "sys"}

func isOwn(schema string) bool {
	return slices.ContainsFunc(own, func(name string) bool { return strings.EqualFold(name, schema) })
}

// deciding is the schema of MariaDB's own whose rows decide about everything.
const deciding = "mysql"

// everyName is the pattern that every name fits.
const everyName = "%"

// worded is the name of a routine that says what sort it is.
var worded = regexp.MustCompile(`^(.+)\((function|procedure)\)$`)

// objectOf gives what a place of an inventory is.
func objectOf(p target.Place) object {
	if p.Path == "" {
		return object{kind: server}
	}
	before, after, inside := strings.Cut(p.Path, "/")
	name := target.Unescaped(before)
	if !inside {
		return object{kind: schema, name: name}
	}
	one := object{kind: relation, schema: name, name: target.Unescaped(after)}
	if p.Type == "function" {
		one.kind, one.word = routine, "FUNCTION"
		if parts := worded.FindStringSubmatch(one.name); parts != nil {
			one.name, one.word = parts[1], strings.ToUpper(parts[2])
		}
	}
	return one
}

// fitting says whether a name fits a pattern of MariaDB's: % stands for any text, _ for a character, and a backslash
// takes its meaning from what follows. It takes the product of their lengths at most.
func fitting(pattern, name string) bool {
	p, n := []rune(pattern), []rune(name)
	at := make([]bool, len(n)+1) // whether what was read of the pattern fits so much of the name
	at[0] = true
	for i := 0; i < len(p); i++ {
		next := make([]bool, len(n)+1)
		switch {
		case p[i] == '%':
			some := false
			for k := range at {
				some = some || at[k]
				next[k] = some
			}
		default:
			any := p[i] == '_'
			if p[i] == '\\' && i+1 < len(p) {
				i++
			}
			for k := range n {
				next[k+1] = at[k] && (any || n[k] == p[i])
			}
		}
		at = next
	}
	return at[len(n)]
}

// plainOf gives the name of the one schema for which a pattern stands; false if it may stand for several.
func plainOf(pattern string) (string, bool) {
	var out strings.Builder
	escaped := false
	for _, r := range pattern {
		switch {
		case escaped:
			escaped = false
		case r == '\\':
			escaped = true
			continue
		case r == '%' || r == '_':
			return "", false
		}
		out.WriteRune(r)
	}
	return out.String(), true
}
