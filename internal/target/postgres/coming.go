package postgres

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"hiddengate/internal/target"
)

// comingObject gives the object of what a role makes in a schema.
func (s *snapshot) comingObject(in comingIn) int {
	n, known := s.coming[in]
	if !known {
		n = len(s.objects)
		s.coming[in] = n
		s.objects = append(s.objects, object{kind: in.kind, name: in.maker, schema: s.objects[in.schema].name,
			fills: in.schema})
	}
	return n
}

// readComing reads the rights that are given on what is made later, in one schema ("ALTER DEFAULT PRIVILEGES" of
// PostgreSQL's manual).
func (r *reading) readComing() error {
	return r.rows(`SELECT m.rolname, d.defaclnamespace, d.defaclobjtype::text, coalesce(g.rolname, ''), x.privilege_type
		FROM pg_catalog.pg_default_acl d CROSS JOIN LATERAL pg_catalog.aclexplode(d.defaclacl) x
		JOIN pg_catalog.pg_roles m ON m.oid = d.defaclrole LEFT JOIN pg_catalog.pg_roles g ON g.oid = x.grantee
		WHERE d.defaclobjtype IN ('r', 'S') AND d.defaclnamespace <> 0 ORDER BY 1, 2, 3, 4, 5`,
		func(rows pgx.Rows) error {
			var maker, sort, who, priv string
			var oid uint32
			if err := rows.Scan(&maker, &oid, &sort, &who, &priv); err != nil {
				return err
			}
			schema, known := r.byOID[[2]uint32{classSchema, oid}]
			if !known {
				return nil
			}
			n := r.comingObject(comingIn{map[string]kind{"r": comingTables, "S": comingSequences}[sort], maker, schema})
			if r.acl[who] == nil {
				r.acl[who] = map[held]string{}
			}
			r.acl[who][held{n, priv}] = maker
			r.seen("coming %q %d %q %q %q", maker, oid, sort, who, priv)
			return nil
		})
}

// makers lists the roles of which what they make in a schema is given to others: hgate's own account, the schema's
// owner, superusers, and whoever the policy lets make something there.
func (p *planning) makers(schema int) []string {
	all := map[string]bool{}
	if p.self != "" {
		all[p.self] = true
	}
	if self := p.snapshot.roles[p.self]; self != nil && !self.super { // it can speak for nobody else
		return []string{p.self}
	}
	if owner := p.snapshot.roles[p.objects[schema].owner]; owner != nil && p.holders[owner.name] == nil {
		all[owner.name] = true
	}
	for name, r := range p.snapshot.roles {
		if r.super && r.login && p.holders[name] == nil {
			all[name] = true
		}
	}
	for name, h := range p.holders {
		if p.a.Mask(h, schema)&(1<<createInSchema) != 0 {
			all[name] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}

// gatherComing adds what has to be had on tables and views that come.
func (p *planning) gatherComing() {
	var schemas []int
	for place := range p.state.Places {
		if p.objects[place].kind == schema && p.a.Listed(place) {
			schemas = append(schemas, place)
		}
	}
	if len(schemas) == 0 {
		return
	}
	coming := p.a.Coming("table", 1<<selecting|1<<inserting|1<<updating|1<<deleting, schemas)
	need := func(w *want, x target.Right, grants []string) {
		add := func(h held) { w.rights[h] = joined(w.rights[h], grants) }
		add(held{x.Place, "USAGE"})
		for _, maker := range p.makers(x.Place) {
			add(held{p.comingObject(comingIn{comingTables, maker, x.Place}), natives[x.Native].Name})
			if x.Native == inserting {
				add(held{p.comingObject(comingIn{comingSequences, maker, x.Place}), "USAGE"})
			}
		}
	}
	for grant, rights := range coming.Roles {
		for _, x := range rights {
			need(p.wants[roleName(p.system, grant)], x, []string{grant})
		}
	}
	for account, all := range coming.Direct {
		for _, x := range all {
			need(p.wants[account], x.Right, x.Grants)
		}
	}
}

// wantsComing says whether somebody has to have a right on what comes into a schema, whoever makes it.
func (p *planning) wantsComing(w *want, h held) bool {
	o := &p.objects[h.object]
	for other := range w.rights {
		if at := &p.objects[other.object]; at.kind == o.kind && at.fills == o.fills && other.priv == h.priv {
			return true
		}
	}
	return false
}

func (k kind) coming() bool { return k == comingTables || k == comingSequences }

// sayComing gives or takes rights on what is coming, which a statement says of one maker and schema.
func (p *planning) sayComing(do target.Doing, b batch, why, verb, whom string) {
	for _, n := range b.objects {
		o := &p.objects[n]
		p.say(do, strings.Fields(b.grants), why, "ALTER DEFAULT PRIVILEGES FOR ROLE %s IN SCHEMA %s %s",
			ident(o.name), ident(o.schema), fmt.Sprintf(verb, b.privs, words[b.kind], whom))
	}
}
