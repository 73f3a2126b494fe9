package postgres

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hiddengate/internal/estate"
	"hiddengate/internal/target"
)

// policy is a row policy of a table ("CREATE POLICY" of PostgreSQL's manual).
type policy struct {
	name        string
	command     string // as pg_policy has it; "*" for all
	roles       []string
	restrictive bool
	using       string // what it says of the rows that there are
	check       string // of those that come to be
}

// commands are the commands of the natives that are had on rows, as pg_policy and as statements have them.
var commands = map[int][2]string{selecting: {"r", "SELECT"}, inserting: {"a", "INSERT"}, updating: {"w", "UPDATE"},
	deleting: {"d", "DELETE"}}

// column is a column by which rows can be told apart.
type column struct {
	quoted string // as PostgreSQL writes its name
	value  string // what its text is compared as
}

// rowsMark begins the names of hgate's row policies.
func rowsMark(system string) string { return mark(system) + "rows:" }

// readPolicies reads the row policies, and finds the tables whose rows can be told apart as the policy says: those that
// have the columns, as texts, no policy of somebody else's, and an owner as whom hgate's own account can act.
func (r *reading) readPolicies() error {
	err := r.rows(`SELECT oid FROM pg_catalog.pg_class WHERE relrowsecurity`, func(rows pgx.Rows) error {
		var oid uint32
		if err := rows.Scan(&oid); err != nil {
			return err
		}
		if n, known := r.byOID[[2]uint32{classRelation, oid}]; known {
			r.objects[n].guarded = true
			r.seen("guarded %d", oid)
		}
		return nil
	})
	if err != nil {
		return err
	}
	err = r.rows(`SELECT p.polrelid, p.polname, p.polcmd::text, NOT p.polpermissive,
		coalesce(pg_catalog.pg_get_expr(p.polqual, p.polrelid), ''),
		coalesce(pg_catalog.pg_get_expr(p.polwithcheck, p.polrelid), ''),
		ARRAY(SELECT coalesce(g.rolname, '') FROM pg_catalog.unnest(p.polroles) x
			LEFT JOIN pg_catalog.pg_roles g ON g.oid = x ORDER BY 1)::text[]
		FROM pg_catalog.pg_policy p ORDER BY 1, 2`, func(rows pgx.Rows) error {
		var oid uint32
		var one policy
		if err := rows.Scan(&oid, &one.name, &one.command, &one.restrictive, &one.using, &one.check,
			&one.roles); err != nil {
			return err
		}
		if n, known := r.byOID[[2]uint32{classRelation, oid}]; known {
			r.objects[n].policies = append(r.objects[n].policies, one)
			r.seen("policy %d %q %q %t %q %q %q", oid, one.name, one.command, one.restrictive, one.using, one.check, one.roles)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return r.readRowColumns()
}

// readRowColumns reads the columns of the tables of which the policy tells rows apart. Texts are compared letter by
// letter, which a collation may do otherwise.
func (r *reading) readRowColumns() error {
	byPath := map[string]int{}
	for n, p := range r.state.Places {
		byPath[p.Path] = n
	}
	self := r.ownPowerOf(r.self)
	for _, p := range r.listed {
		n, there := byPath[p.Path]
		if p.Rows == nil || !there || r.objects[n].kind != relation {
			continue
		}
		o := &r.objects[n]
		aside := func(why string) {
			r.state.Aside = append(r.state.Aside, "the rows of "+p.Path+": "+why)
		}
		if !self.super && !self.ownership[o.owner] {
			aside("its owner is " + o.owner + ", as whom " + r.self + " cannot act")
			continue
		}
		if i := slices.IndexFunc(o.policies, func(one policy) bool {
			return !strings.HasPrefix(one.name, rowsMark(r.system))
		}); i >= 0 {
			aside("it has a row policy that hgate did not make, " + o.policies[i].name + "; drop it, or leave `rows` out")
			continue
		}
		if o.guarded && len(o.policies) == 0 {
			aside("ROW LEVEL SECURITY is on without a row policy, which closes it; turn it off, or leave `rows` out")
			continue
		}
		columns := map[string]column{}
		err := r.rows(`SELECT a.attname, pg_catalog.quote_ident(a.attname), a.atttypid <> 'text'::pg_catalog.regtype
			FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid = a.attrelid
			JOIN pg_catalog.pg_collation l ON l.oid = a.attcollation
			WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped AND l.collisdeterministic AND
			c.relkind IN ('r', 'p') AND a.atttypid IN ('text'::pg_catalog.regtype, 'varchar'::pg_catalog.regtype)`,
			func(rows pgx.Rows) error {
				var name string
				var one column
				var cast bool
				if err := rows.Scan(&name, &one.quoted, &cast); err != nil {
					return err
				}
				one.value = one.quoted
				if cast {
					one.value = "(" + one.quoted + ")::text"
				}
				columns[name] = one
				return nil
			}, o.oid)
		if err != nil {
			return err
		}
		named := []string{}
		if p.Rows.Owner != "" {
			named = append(named, p.Rows.Owner)
		}
		for _, tag := range p.Rows.Tags {
			named = append(named, tag.Value)
		}
		r.seen("columns %d %q", o.oid, named)
		if i := slices.IndexFunc(named, func(name string) bool { return columns[name].value == "" }); i >= 0 {
			aside("it has no column " + named[i] + " of texts (text or varchar) that are compared letter by letter")
		} else if len(named) > 0 {
			o.columns = columns
			r.state.Places[n].Rows = p.Rows
		}
	}
	return nil
}

// columnsAsSaid are the columns of a table that nobody has read, with plain names.
func columnsAsSaid(rows estate.Rows) map[string]column {
	out := map[string]column{rows.Owner: {ident(rows.Owner), ident(rows.Owner)}}
	for _, tag := range rows.Tags {
		out[tag.Value] = column{ident(tag.Value), ident(tag.Value)}
	}
	return out
}

// rowsWanted is what a row policy of hgate's has to say.
type rowsWanted struct {
	table   int
	native  int
	role    string
	classes []*target.RowClass
	grants  []string
}

// needRows adds that a role or account has to have a native on some rows.
func (p *planning) needRows(role string, native int, c *target.RowClass, grants []string) {
	key := rowsKey{c.Table, native, role}
	one := p.rowsWanted[key]
	if one == nil {
		one = &rowsWanted{table: c.Table, native: native, role: role}
		p.rowsWanted[key] = one
	}
	one.classes, one.grants = append(one.classes, c), joined(one.grants, grants)
}

type rowsKey struct {
	table, native int
	role          string
}

// policiesWanted lists, by table, the row policies that there have to be: of a table whose rows are told apart, one for
// each command of each role and account, and one for each that leaves to those outside hgate's care what they had.
func (p *planning) policiesWanted() (out map[int][]policy, grants map[string][]string) {
	out, grants = map[int][]policy{}, map[string][]string{}
	every := map[int][]*target.RowClass{}
	for _, at := range p.a.State.Places {
		if at.Class != nil {
			every[at.Class.Table] = append(every[at.Class.Table], at.Class)
		}
	}
	for table := range every {
		for native := range commands {
			if roles := p.outsiders(native, table); len(roles) > 0 {
				out[table] = append(out[table], rowPolicy(p.system, native, "others", roles, always))
			}
		}
	}
	for _, w := range p.rowsWanted {
		text := textOf(p.objects[w.table].columns, w.classes, every[w.table])
		one := rowPolicy(p.system, w.native, "to "+w.role, []string{w.role}, text)
		out[w.table] = append(out[w.table], one)
		grants[one.name] = joined(grants[one.name], w.grants)
	}
	for table := range every {
		slices.SortFunc(out[table], func(a, b policy) int {
			return cmp.Or(len(grants[a.name])-len(grants[b.name]), slices.Compare(a.roles, b.roles),
				strings.Compare(a.name, b.name))
		})
	}
	return out, grants
}

// rowPolicy is a row policy of hgate's by which some roles get at rows of which a text speaks.
func rowPolicy(system string, native int, whose string, roles []string, text string) policy {
	one := policy{name: target.Shortened(rowsMark(system)+commands[native][1]+" "+whose, longestName),
		command: commands[native][0], roles: roles, using: text}
	if native == inserting {
		one.using, one.check = "", text
	}
	return one
}

// outsiders lists those outside hgate's care who have a native on a table. Whoever is a member of one has the native on
// all rows by the policy: else the membership is taken away.
func (p *planning) outsiders(native, table int) []string {
	all := map[string]bool{readsAll: native == selecting, writesAll: native != selecting}
	for name, rights := range p.acl {
		if name == "" || name == p.objects[table].owner || p.wants[name] != nil || p.isHgates(name) {
			continue
		}
		for h := range rights {
			if priv, _, _ := strings.Cut(h.priv, columns); h.object == table && priv == natives[native].Name {
				all[name] = true
			}
		}
	}
	maps.DeleteFunc(all, func(_ string, has bool) bool { return !has })
	return slices.Sorted(maps.Keys(all))
}

// same says whether a policy is as another; what says nothing of new rows says of them what it does of the others.
func (one policy) same(other policy) bool {
	checks := func(p policy) string {
		if p.check == "" && p.command != "r" && p.command != "d" {
			return p.using
		}
		return p.check
	}
	return one.name == other.name && one.command == other.command && one.using == other.using &&
		one.restrictive == other.restrictive && slices.Equal(one.roles, other.roles) && checks(one) == checks(other)
}

// takePolicies drops the row policies of hgate's that are not as they have to be. A table that has none any more is
// open again as far as its rights go.
func (p *planning) takePolicies() {
	p.policies, p.policyGrants = p.policiesWanted()
	for table := range p.state.Places {
		o := &p.objects[table]
		ours := 0
		for _, is := range o.policies {
			if !strings.HasPrefix(is.name, rowsMark(p.system)) {
				continue
			}
			ours++
			if !slices.ContainsFunc(p.policies[table], is.same) {
				p.say(target.Remove, nil, "its rows are to be told apart otherwise", "DROP POLICY %s ON %s", ident(is.name),
					o.text())
			}
		}
		if ours > 0 && ours == len(o.policies) && o.guarded && !p.tellsRows(table) {
			p.say(target.Remove, nil, "its rows are told apart no more", "ALTER TABLE %s DISABLE ROW LEVEL SECURITY", o.text())
		}
	}
}

// tellsRows says whether a table's rows have to be told apart.
func (p *planning) tellsRows(table int) bool {
	return slices.ContainsFunc(p.a.State.Places, func(at target.Place) bool {
		return at.Class != nil && at.Class.Table == table
	})
}

// givePolicies makes the row policies that are missing.
func (p *planning) givePolicies() {
	for _, table := range slices.Sorted(maps.Keys(p.policies)) {
		o := &p.objects[table]
		if !o.guarded {
			p.say(target.Alter, nil, "its rows are told apart", "ALTER TABLE %s ENABLE ROW LEVEL SECURITY", o.text())
		}
		for _, one := range p.policies[table] {
			if slices.ContainsFunc(o.policies, one.same) {
				continue
			}
			var roles []string
			for _, name := range one.roles {
				roles = append(roles, ident(name))
			}
			says, why := " USING ("+one.using+")", ""
			if one.using == "" {
				says = " WITH CHECK (" + one.check + ")"
			}
			command := ""
			for _, words := range commands {
				if words[0] == one.command {
					command = words[1]
				}
			}
			if p.policyGrants[one.name] == nil {
				why = "whoever is outside hgate's care has what they had"
			}
			p.say(target.Add, p.policyGrants[one.name], why, "CREATE POLICY %s ON %s FOR %s TO %s%s", ident(one.name), o.text(),
				command, strings.Join(roles, ", "), says)
		}
	}
}
