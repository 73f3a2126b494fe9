package main

import (
	"context"
	"database/sql"
	_ "embed"
	"fmt"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the database that the yardstick asks

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/counting"
	"hiddengate/internal/shape"
)

// The ways in which the database is asked differ in how they find what is covered: which is faster hangs on the shape.
var (
	//go:embed covered_by_steps.sql
	bySteps string
	//go:embed covered_by_range.sql
	byRange string
	//go:embed counts.sql
	countsQuery string
)

const tables = `
CREATE TABLE subject(id TEXT PRIMARY KEY, active INTEGER) WITHOUT ROWID;
CREATE TABLE subject_tag(subject TEXT, key TEXT, value TEXT, PRIMARY KEY (subject, key)) WITHOUT ROWID;
CREATE TABLE member(subject TEXT, grp TEXT, PRIMARY KEY (subject, grp)) WITHOUT ROWID;
CREATE TABLE nested(inside TEXT, outside TEXT, PRIMARY KEY (inside, outside)) WITHOUT ROWID;
CREATE TABLE grants(id TEXT PRIMARY KEY, grp TEXT, role TEXT, holds INTEGER, same TEXT) WITHOUT ROWID;
CREATE TABLE grant_place(id TEXT, node INTEGER, PRIMARY KEY (id, node)) WITHOUT ROWID;
CREATE TABLE grant_except(id TEXT, node INTEGER, PRIMARY KEY (id, node)) WITHOUT ROWID;
CREATE TABLE grant_tag(id TEXT, key TEXT, value TEXT, PRIMARY KEY (id, key, value)) WITHOUT ROWID;
CREATE TABLE grant_prefix(id TEXT PRIMARY KEY, prefix TEXT, after TEXT) WITHOUT ROWID;
CREATE TABLE blocks(id TEXT PRIMARY KEY, holds INTEGER) WITHOUT ROWID;
CREATE TABLE block_place(id TEXT, node INTEGER, PRIMARY KEY (id, node)) WITHOUT ROWID;
CREATE TABLE block_operation(id TEXT, operation TEXT, PRIMARY KEY (id, operation)) WITHOUT ROWID;
CREATE TABLE role_operation(role TEXT, operation TEXT, PRIMARY KEY (role, operation)) WITHOUT ROWID;
CREATE TABLE resource(node INTEGER PRIMARY KEY, parent INTEGER, last INTEGER, class TEXT, address TEXT);
CREATE TABLE tag(node INTEGER, key TEXT, value TEXT, PRIMARY KEY (node, key)) WITHOUT ROWID;
CREATE TABLE valid(class TEXT, operation TEXT, PRIMARY KEY (class, operation)) WITHOUT ROWID;`

const indexes = `
CREATE INDEX grants_by_group ON grants(grp);
CREATE INDEX resource_by_parent ON resource(parent);
CREATE INDEX resource_by_address ON resource(address);
CREATE INDEX tag_by_value ON tag(key, value);
ANALYZE;`

// closures are worked out once for all who are asked about: in which groups somebody is, and what blocks, which are for
// everybody here, deny.
const closures = `
CREATE TABLE belongs(subject TEXT, grp TEXT, PRIMARY KEY (subject, grp)) WITHOUT ROWID;
INSERT INTO belongs WITH RECURSIVE all_of(subject, grp) AS (
  SELECT subject, grp FROM member UNION SELECT subject, outside FROM all_of JOIN nested ON inside = grp
) SELECT subject, grp FROM all_of;
CREATE TABLE denied(operation TEXT, node INTEGER, holds INTEGER, PRIMARY KEY (operation, node)) WITHOUT ROWID;
INSERT INTO denied SELECT o.operation, r.node, MAX(b.holds)
  FROM blocks b JOIN block_operation o USING (id) JOIN block_place p USING (id) JOIN resource top ON top.node = p.node
    JOIN resource r ON r.node BETWEEN top.node AND top.last
  WHERE b.holds > 0 GROUP BY o.operation, r.node;
ANALYZE;`

// filler writes the facts of an estate into a database in memory.
type filler struct {
	*sql.Tx
	gate *gate.Gate
}

func (f *filler) insert(table string, rows func(add func(values ...any))) {
	var statement *sql.Stmt
	rows(func(values ...any) {
		if statement == nil {
			var err error
			statement, err = f.Prepare("INSERT INTO " + table + " VALUES (?" + strings.Repeat(",?", len(values)-1) + ")")
			must(err)
		}
		_, err := statement.Exec(values...)
		must(err)
	})
}

// database holds the same facts as the estate. What a condition comes to in the context is given to it: 2 for holds, 1
// for depends, 0 for does not.
func database(g *gate.Gate, c *gate.Context) *sql.DB {
	db, err := sql.Open("sqlite", ":memory:")
	must(err)
	db.SetMaxOpenConns(1)
	_, err = db.Exec("PRAGMA journal_mode=OFF; PRAGMA cache_size=-400000;" + tables)
	must(err)
	tx, err := db.Begin()
	must(err)
	f := &filler{tx, g}
	f.subjects(c)
	f.entries(c)
	f.resources()
	must(tx.Commit())
	_, err = db.Exec(indexes + closures)
	must(err)
	return db
}

func (f *filler) subjects(c *gate.Context) {
	e := f.gate.Estate()
	f.insert("subject", func(add func(...any)) {
		for _, p := range e.People {
			add(p.ID, p.Status == estate.Statuses[0] && f.gate.Meets(nil, p.Starts, p.Ends, c) == gate.Allow)
		}
	})
	f.insert("subject_tag", func(add func(...any)) {
		for _, p := range e.People {
			for _, t := range p.Tags {
				add(p.ID, t.Key, t.Value)
			}
		}
	})
	f.insert("member", func(add func(...any)) {
		for _, g := range e.Groups {
			for _, m := range g.Members {
				if m.Kind != estate.IsGroup {
					add(m.ID, g.ID)
				}
			}
		}
	})
	f.insert("nested", func(add func(...any)) {
		for _, g := range e.Groups {
			for _, m := range g.Members {
				if m.Kind == estate.IsGroup {
					add(m.ID, g.ID)
				}
			}
		}
	})
}

func (f *filler) entries(c *gate.Context) {
	e := f.gate.Estate()
	f.insert("grants", func(add func(...any)) {
		for _, g := range e.Grants {
			var same any
			when := g.When
			if when != nil && when.Same != nil { // asked of each resource; nothing stands beside it in these shapes
				same, when = when.Same[0], nil
			}
			add(g.ID, g.To[0].ID, g.Roles[0].ID, int(f.gate.Meets(when, g.Starts, g.Ends, c)), same)
		}
	})
	node := func(t estate.ResourceTerm) int { return e.Listed(t.In.Address()).Index }
	plain := func(t estate.ResourceTerm) bool { return t.In != nil && t.In.Plain() }
	f.insert("grant_place", func(add func(...any)) {
		for _, g := range e.Grants {
			for _, t := range g.On {
				if plain(t) && !t.Not {
					add(g.ID, node(t))
				}
			}
		}
	})
	f.insert("grant_except", func(add func(...any)) {
		for _, g := range e.Grants {
			for _, t := range g.On {
				if t.Not {
					add(g.ID, node(t))
				}
			}
		}
	})
	f.insert("grant_tag", func(add func(...any)) {
		for _, g := range e.Grants {
			for _, t := range g.On {
				for _, m := range t.Tags {
					add(g.ID, m.Key, m.Values[0])
				}
			}
		}
	})
	f.insert("grant_prefix", func(add func(...any)) {
		for _, g := range e.Grants {
			if t := g.On[0]; t.In != nil && !t.In.Plain() {
				prefix := strings.TrimSuffix(t.In.String(), "*")
				add(g.ID, prefix, prefix+"\U0010ffff")
			}
		}
	})
	f.insert("blocks", func(add func(...any)) {
		for _, b := range e.Blocks {
			add(b.ID, int(f.gate.Meets(b.When, b.Starts, b.Ends, c)))
		}
	})
	f.insert("block_place", func(add func(...any)) {
		for _, b := range e.Blocks {
			if e.Listed(b.On[0].In.Address()) != nil {
				add(b.ID, node(b.On[0]))
			}
		}
	})
	f.insert("block_operation", func(add func(...any)) {
		for _, b := range e.Blocks {
			for _, o := range e.Operations {
				if b.Deny.Fit(o, e.Edition) {
					add(b.ID, o.Name)
				}
			}
		}
	})
	f.insert("role_operation", func(add func(...any)) {
		for _, r := range e.Roles {
			for _, o := range f.gate.RoleOperations(r.ID) {
				add(r.ID, o.Name)
			}
		}
	})
}

func (f *filler) resources() {
	tree := f.gate.Estate().Tree
	class := func(r *estate.Resource) string { return r.System.Kind.ID + " " + r.Type }
	classes := map[string]*estate.Resource{}
	last := make([]int, tree.Len()) // of each resource, the last inside it
	for i := range last {
		last[i] = i
	}
	for i := len(last) - 1; i >= 0; i-- {
		if parent := tree.Rows[i].Parent; parent > 0 {
			last[parent-1] = max(last[parent-1], last[i])
		}
	}
	f.insert("resource", func(add func(...any)) {
		for r := range tree.All() {
			parent := any(nil)
			if r.Parent != nil {
				parent = r.Parent.Index
			}
			add(r.Index, parent, last[r.Index], class(r), tree.Address(r.Index))
			classes[class(r)] = r
		}
	})
	f.insert("tag", func(add func(...any)) {
		for r := range tree.All() {
			for _, t := range r.Tags {
				add(r.Index, t.Key, t.Value)
			}
		}
	})
	f.insert("valid", func(add func(...any)) {
		for name, r := range classes {
			for _, o := range f.gate.Estate().Offer(r.System.Kind.ID).On(r.Type) {
				add(name, o.Name)
			}
		}
	})
}

// bySQL is the same counts from a database.
type bySQL struct {
	subjects int
	each     time.Duration // for one subject, the mean of the way that is faster
	way      string        // which that is
	wrong    int           // subjects whose rows differ from the table's, by either way
}

// measureSQL asks for the counts of some subjects, drawn over all of them, in both ways, and holds the rows against the
// table's.
func measureSQL(s shape.Shape, g *gate.Gate, subjects int) (out bySQL) {
	c := when(g)
	db := database(g, c)
	defer db.Close()
	asked := map[string]bool{}
	var people []string
	for k := range subjects {
		id := fmt.Sprintf("person-%06d", k*(s.People/subjects))
		asked[id] = true
		people = append(people, id)
	}
	want := map[string]map[string]counting.Count{}
	operations := estate.Sorted(g.Estate().Operations)
	must(counting.NewTable(g, c).Counts(context.Background(), func(who estate.Principal, counts []counting.Count) bool {
		if asked[who.ID] {
			want[who.ID] = map[string]counting.Count{}
			for i, n := range counts {
				if n != (counting.Count{}) {
					want[who.ID][operations[i].Name] = n
				}
			}
		}
		return true
	}))
	out.subjects = len(people)
	for _, one := range []struct{ way, covered string }{{"step by step", bySteps}, {"by ranges", byRange}} {
		query, err := db.Prepare(one.covered + countsQuery)
		must(err)
		start := time.Now()
		for _, id := range people {
			rows, err := query.Query(id)
			must(err)
			same, found := true, 0
			for rows.Next() {
				var name string
				var n counting.Count
				must(rows.Scan(&name, &n.Allowed, &n.Depends))
				if n != (counting.Count{}) {
					found++
					same = same && want[id][name] == n
				}
			}
			must(rows.Err())
			if !same || found != len(want[id]) {
				out.wrong++
			}
		}
		if each := time.Since(start) / time.Duration(len(people)); out.way == "" || each < out.each {
			out.each, out.way = each, one.way
		}
	}
	return out
}
