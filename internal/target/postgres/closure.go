package postgres

import (
	"cmp"
	"maps"
	"slices"
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

// cause tells why somebody has a native right on an object: what is nearest to them; "" if they have not. ways are
// theirs.
func (s *snapshot) cause(who string, ways map[string][]string, native, object int) string {
	via := func(role, text string) string {
		if chain := ways[role]; len(chain) > 0 {
			return "the account is a member of " + strings.Join(chain, ", which is a member of ") + text
		}
		return "the account" + strings.TrimPrefix(text, ", which")
	}
	if predefined := memberOf[native]; predefined != "" {
		if chain := ways[predefined]; len(chain) > 0 {
			return via(predefined, "")
		}
	}
	o := &s.objects[object]
	privs := []string{natives[native].Name, natives[native].Name + columns}
	for _, name := range slices.SortedFunc(maps.Keys(ways), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(ways[a]), len(ways[b])), strings.Compare(a, b))
	}) {
		switch r := s.roles[name]; {
		case r == nil:
		case r.super:
			return via(name, ", which is a superuser")
		case native == makingRoles:
			if r.makesRoles {
				return via(name, ", which may make roles (CREATEROLE)")
			}
		case memberOf[native] != "":
		case o.owner == name:
			return via(name, ", which owns it")
		case owning&(1<<native) != 0:
		case native == selecting && name == readsAll, writes(native) && name == writesAll:
			return via(name, ", which may do it everywhere")
		default:
			for _, priv := range privs {
				if _, ok := s.acl[name][held{object, priv}]; ok {
					return via(name, ", which has "+priv+" on it")
				}
			}
		}
	}
	for _, priv := range privs {
		if _, ok := s.acl[""][held{object, priv}]; ok && memberOf[native] == "" {
			return priv + " is granted to PUBLIC"
		}
	}
	return ""
}

func writes(native int) bool { return native == inserting || native == updating || native == deleting }

// columns ends the name of a right that somebody has on some columns of a table alone.
const columns = " of some columns"
