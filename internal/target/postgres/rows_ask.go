package postgres

import (
	"maps"
	"slices"
	"strings"

	"hiddengate/internal/target"
)

// showing tells by which row policy, or by what else, somebody gets at some rows of a table with a native that they
// have on it; "" if they do not. A policy that hgate did not write shows everything, as far as hgate can tell, and
// hides nothing.
func (s *snapshot) showing(who string, ways map[string][]string, native int, c *target.RowClass) string {
	o := &s.objects[c.Table]
	for _, name := range slices.Sorted(maps.Keys(ways)) {
		switch r := s.roles[name]; {
		case r != nil && (r.super || r.passesRows):
			return "no row policy is in " + name + "'s way"
		case o.owner == name:
			return name + " owns the table"
		}
	}
	if !o.guarded {
		return "the table's rows are not told apart (ROW LEVEL SECURITY is off)"
	}
	for _, one := range o.policies {
		if one.restrictive || one.command != "*" && one.command != commands[native][0] ||
			!slices.ContainsFunc(one.roles, func(name string) bool { _, is := ways[name]; return is || name == "" }) {
			continue
		}
		says := one.using
		if native == inserting && one.check != "" {
			says = one.check
		}
		if admits(says, o.columns, c, who) {
			return "the row policy " + one.name + " lets it through"
		}
	}
	return ""
}

// admits says whether a policy speaks of some row of a class. It reads what hgate writes; of all else it says yes.
func admits(text string, columns map[string]column, c *target.RowClass, who string) bool {
	byText := map[string]target.Column{}
	for _, at := range c.Columns {
		byText[columns[at.Name].quoted], byText[columns[at.Name].value] = at, at
	}
	p := &policyReader{rest: text, columns: byText, who: who}
	out, ok := p.says()
	return !ok || p.rest != "" || out
}

// policyReader reads what row policies of hgate's say, as saying and standing write it.
type policyReader struct {
	rest    string
	columns map[string]target.Column
	who     string
	depth   int // of parentheses
}

func (p *policyReader) take(text string) bool {
	rest, ok := strings.CutPrefix(p.rest, text)
	if ok {
		p.rest = rest
	}
	return ok
}

// deepest is how deep the parentheses of a policy are that hgate writes: two for each column, of which a table has no
// more than this.
const deepest = 200

// says reads one thing that is said, and gives whether it is so of the class; ok is false if it cannot be read.
func (p *policyReader) says() (is, ok bool) {
	if p.take(always) {
		return true, true
	}
	if is, ok, found := p.standing(); found {
		return is, ok
	}
	if p.depth++; p.depth > deepest || !p.take("(") {
		return false, false
	}
	defer func() { p.depth-- }()
	if is, ok = p.says(); !ok {
		return false, false
	}
	for {
		switch {
		case p.take(")"):
			return is, true
		case p.take(" AND "):
			more, ok := p.says()
			if !ok {
				return false, false
			}
			is = is && more
		case p.take(" OR "):
			more, ok := p.says()
			if !ok {
				return false, false
			}
			is = is || more
		default:
			return false, false
		}
	}
}

// standing reads what is said of one column.
func (p *policyReader) standing() (is, ok, found bool) {
	for text, at := range p.columns {
		switch {
		case p.take("(" + text + " IS NULL)"):
			return at.Sort == target.Silent, true, true
		case p.take("(" + text + " IS NOT NULL)"):
			return at.Sort != target.Silent, true, true
		case p.take("(" + text + " = ANY (ARRAY["):
			is, ok = p.oneOf(at, true)
			return is, ok, true
		case p.take("(" + text + " <> ALL (ARRAY["):
			is, ok = p.oneOf(at, false)
			return is, ok, true
		}
	}
	return false, false, false
}

// oneOf reads a list of texts, and gives whether what stands in a column can be one of them, or can be none of them.
func (p *policyReader) oneOf(at target.Column, among bool) (is, ok bool) {
	found, strange := false, false
	for {
		var text string
		switch {
		case p.take(account), p.take(signed):
			text = p.who
			found = found || at.Sort == target.Own
		case p.take("'"):
			if text, ok = p.quoted(); !ok {
				return false, false
			}
			strange = strange || !slices.Contains(at.Told, text)
			found = found || at.Sort == target.Own && text == p.who
		default:
			return false, false
		}
		found = found || at.Sort == target.Text && text == at.Value
		if p.take("]))") {
			break
		}
		if !p.take(", ") {
			return false, false
		}
	}
	switch {
	case at.Sort == target.Silent:
		return false, true
	case among:
		return found || at.Sort == target.Other && strange, true // what is another now may be one of these
	}
	return !found, true
}

// quoted reads the rest of a constant.
func (p *policyReader) quoted() (text string, ok bool) {
	for {
		before, after, found := strings.Cut(p.rest, "'")
		if !found {
			return "", false
		}
		text, p.rest = text+before, after
		if !p.take("'") {
			return text, p.take("::text")
		}
		text += "'"
	}
}
