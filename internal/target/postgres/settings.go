package postgres

import (
	"path"
	"strings"

	"github.com/jackc/pgx/v5"

	"hiddengate/internal/target"
)

// settingOf is the name of the setting that a place stands for. PostgreSQL tells no upper case from lower there.
func settingOf(p target.Place) string { return strings.ToLower(target.Unescaped(path.Base(p.Path))) }

// readSettings reads the settings that the policy lists, and who may change them. One whose value is a text can be
// changed by nobody through hgate: it may name a program, a library or a file that the server takes.
func (r *reading) readSettings() error {
	places := map[string]target.Place{}
	var names []string
	for _, p := range r.listed {
		if p.Type == "setting" {
			name := settingOf(p)
			if _, twice := places[name]; !twice {
				places[name] = p
				names = append(names, name)
			}
		}
	}
	if len(names) == 0 {
		return nil
	}
	super := r.roles[r.self] != nil && r.roles[r.self].super
	at := map[string]int{}
	err := r.rows(`SELECT pg_catalog.lower(name), vartype FROM pg_catalog.pg_settings
		WHERE pg_catalog.lower(name) = ANY ($1) AND context <> 'internal' ORDER BY 1`, func(rows pgx.Rows) error {
		o := object{kind: parameter}
		var sort string
		if err := rows.Scan(&o.name, &sort); err != nil {
			return err
		}
		p := places[o.name]
		if sort == "string" || !super {
			p.Lacks = 1 << changingSetting
		}
		at[o.name] = len(r.objects)
		r.objects = append(r.objects, o)
		r.state.Places = append(r.state.Places, p)
		r.seen("setting %q %q", o.name, sort)
		return nil
	}, names)
	if err != nil {
		return err
	}
	return r.rows(`SELECT pg_catalog.lower(c.parname), coalesce(g.rolname, ''), x.privilege_type, coalesce(b.rolname, '')
		FROM pg_catalog.pg_parameter_acl c CROSS JOIN LATERAL pg_catalog.aclexplode(c.paracl) x
		LEFT JOIN pg_catalog.pg_roles g ON g.oid = x.grantee LEFT JOIN pg_catalog.pg_roles b ON b.oid = x.grantor`,
		func(rows pgx.Rows) error {
			var name, who, priv, by string
			if err := rows.Scan(&name, &who, &priv, &by); err != nil {
				return err
			}
			if n, known := at[name]; known {
				if r.acl[who] == nil {
					r.acl[who] = map[held]string{}
				}
				r.acl[who][held{n, priv}] = by
				r.seen("setting %q %q %q %q", name, who, priv, by)
			}
			return nil
		})
}
