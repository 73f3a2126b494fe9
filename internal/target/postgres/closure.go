package postgres

import (
	"slices"
	"sort"
	"strings"
)

// Predefined roles that read or write everything ("Predefined Roles" of PostgreSQL's manual).
const (
	readsAll  = "pg_read_all_data"
	writesAll = "pg_write_all_data"
)

// ways lists the roles of which somebody is a member, themselves first, each with the chain that leads to it. That a
// membership does not inherit does not count: its holder can take the role on.
func (s *snapshot) ways(who string) map[string][]string {
	out := map[string][]string{who: nil}
	queue := []string{who}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, up := range s.in[at] {
			if _, seen := out[up]; !seen {
				out[up] = append(slices.Clone(out[at]), up)
				queue = append(queue, up)
			}
		}
	}
	return out
}

// cause is why somebody has a right.
type cause struct {
	text   string
	public bool // everybody has it
}

// has tells why somebody has a native right on an object, nearest cause first; "" in text if they have not. ways are
// theirs.
func (s *snapshot) has(who string, ways map[string][]string, native, object int) (out []cause) {
	via := func(role, text string) cause {
		if chain := ways[role]; len(chain) > 0 {
			return cause{"the account is a member of " + strings.Join(chain, ", which is a member of ") + ", which " + text,
				false}
		}
		return cause{"the account " + text, false}
	}
	var names []string
	for name := range ways {
		names = append(names, name)
	}
	sort.Slice(names, func(i, j int) bool {
		if a, b := len(ways[names[i]]), len(ways[names[j]]); a != b {
			return a < b
		}
		return names[i] < names[j]
	})
	if predefined := memberOf[native]; predefined != "" {
		if chain := ways[predefined]; len(chain) > 0 {
			out = append(out, cause{"the account is a member of " + strings.Join(chain, ", which is a member of "), false})
		} else if who == predefined {
			out = append(out, cause{"it is " + predefined, false})
		}
	}
	o := &s.objects[object]
	priv := natives[native].Name
	for _, name := range names {
		r := s.roles[name]
		switch {
		case r == nil:
		case r.super:
			out = append(out, via(name, "is a superuser"))
		case o.owner == name && memberOf[native] == "":
			out = append(out, via(name, "owns it"))
		case native == selecting && name == readsAll, writes(native) && name == writesAll:
			out = append(out, via(name, "may do it everywhere"))
		}
		if memberOf[native] != "" {
			continue
		}
		for _, p := range []string{priv, priv + columns} {
			if _, ok := s.acl[name][held{object, p}]; ok {
				out = append(out, via(name, "has "+p+" on it"))
			}
		}
	}
	if memberOf[native] == "" {
		for _, p := range []string{priv, priv + columns} {
			if _, ok := s.acl[""][held{object, p}]; ok {
				out = append(out, cause{p + " is granted to PUBLIC", true})
			}
		}
	}
	return out
}

func writes(native int) bool { return native == inserting || native == updating || native == deleting }

// columns ends the name of a right that somebody has on some columns of a table alone.
const columns = " of some columns"
