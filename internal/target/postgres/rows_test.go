//go:build unix

package postgres

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/gate"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// oneRow is a row of the table of notes, which the policy lists as a resource of its own, so that both can be asked.
type oneRow struct {
	id        string
	who, team *string
}

// rowsBench is a database with a table whose rows are told apart.
type rowsBench struct {
	*bench
	notes string // the table, for statements
	rows  []oneRow
	// taking are the roles that are taken on: by the server's owner where the account is the first of them, else by it.
	taking []string
}

const rowColumns = "rows: {owner: Who, tags: {team: 'the team'}}"

func newRowsBench(t *testing.T, address string) *rowsBench {
	b := &rowsBench{bench: newBench(t, address, "rows"), notes: ident("plain", "no'tes")}
	b.system.(*system).listed = []target.Place{{Path: "plain/no'tes", Type: "table"}}
	g := targettest.Load(t, "hidden-gate: 1\nsystems: {db: {kind: database, resources: {plain/no'tes: {"+rowColumns+"}}}}")
	b.system.(*system).listed[0].Rows = g.Estate().Tree.Entry(g.Estate().Tree.Find("db:plain/no'tes")).Rows
	b.exec("CREATE SCHEMA plain")
	b.exec(`CREATE TABLE %s (id text, n int, "Who" varchar(80), "the team" text)`, b.notes)
	text := func(s string) *string { return &s }
	lines := []string{
		"plain: {type: schema}",
		"\"plain/no'tes\": {type: table, " + rowColumns + ", tags: {team: b}, owner: p2}",
	}
	for _, who := range []*string{nil, text(""), text("plain person"), text("Upper Case person"), text("p5"), text("p6"),
		text("second"), text("a stranger")} {
		for _, team := range []*string{nil, text(""), text("a"), text("b"), text("o'c"), text("unheard of")} {
			one := oneRow{fmt.Sprintf("r%d", len(b.rows)), who, team}
			b.rows = append(b.rows, one)
			_, err := b.owner.Exec(t.Context(), "INSERT INTO "+b.notes+" VALUES ($1, 0, $2, $3)", one.id, who, team)
			require.NoError(t, err)
			said := ""
			if who != nil {
				said += fmt.Sprintf(", owner: %q", map[string]string{"plain person": "p0", "Upper Case person": "p1", "p5": "p5",
					"p6": "p6", "second": "p0", "a stranger": "nobody-else"}[*who])
			}
			if team != nil {
				said += fmt.Sprintf(", tags: {team: %q}", *team)
			}
			lines = append(lines, fmt.Sprintf("\"plain/no'tes/%s\": {type: table%s}", one.id, said))
		}
	}
	b.text = strings.Join(lines, ", ")
	return b
}

// policy draws rules by which owners and tags tell rows apart.
func (b *rowsBench) policy(d *rand.Rand) string {
	var out strings.Builder
	out.WriteString("hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, resources: {" + b.text +
		", accounts/second: {owner: p0}")
	out.WriteString(
		strings.Replace(targettest.Accounts(awkward), "people: {", "people: {nobody-else: {status: left}, ", 1),
	)
	text := out.String()
	for i, team := range []string{"a", "b", "o'c", "", "d"} { // which people have, and of the last no row
		text = strings.Replace(text, fmt.Sprintf("p%d: {}", i), fmt.Sprintf("p%d: {tags: {team: %q}}", i, team), 1)
	}
	out.Reset()
	out.WriteString(text)
	pick := func(list ...string) string { return list[d.IntN(len(list))] }
	whom := func() string {
		return pick("group:g0", "group:g1", "group:g2", "p0", "p1", "p5", "p6", "everyone")
	}
	where := func() string {
		table := "db:plain/no'tes"
		return pick("db", `"`+table+`"`, "{in: db, tags: {team: [a, \"o'c\"]}}", "{in: db, owner: [p1, p6]}",
			`{in: "`+table+`", type: table}`, `db, {not: {tags: {team: b}}}`, `db, {not: {owner: p0}}`, "db, not "+table)
	}
	when := func() string {
		return pick(
			"",
			"",
			", when: {owner: true}",
			", when: {owner: true}",
			", when: {owner: false}",
			", when: {same: [team]}",
			", when: {resource: {team: [a, x]}}",
			`, when: {not: {resource: {team: ["o'c"]}}}`,
			", when: {mfa: true}",
			", when: {any: [{owner: true}, {resource: {team: b}}]}",
		)
	}
	operations := func() string {
		return pick("table.read", "table.read, table.update", "table.insert", "table.delete, table.update", "table.*",
			"table.alter, table.read")
	}
	out.WriteString("roles: {enter: {allow: [session.open]}, full: {allow: ['*']}")
	for i := range 4 {
		fmt.Fprintf(&out, ", r%d: {allow: [%s]}", i, operations())
	}
	out.WriteString("}\ngrants: {enter: {to: everyone, role: enter, on: db}")
	for i := range 2 + d.IntN(5) {
		fmt.Fprintf(&out, ", g%d: {to: [%s, %s], role: r%d, on: [%s]%s}", i, whom(), whom(), d.IntN(4), where(), when())
	}
	if d.IntN(3) == 0 {
		fmt.Fprintf(&out, ", whole: {to: %s, role: full, on: everything}", whom())
	}
	out.WriteString("}\nblocks: {")
	for i := range d.IntN(3) {
		fmt.Fprintf(&out, "b%d: {to: [%s], deny: [%s], on: [%s]%s}, ", i, whom(), operations(), where(), when())
	}
	out.WriteString("}\n")
	return out.String()
}

// as does something as an account, in a transaction that is rolled back, and then looks at the rows.
func (b *rowsBench) as(account, text, look string) (ids []string, denied bool) {
	ctx := b.T.Context()
	tx, err := b.owner.Begin(ctx)
	require.NoError(b.T, err)
	defer tx.Rollback(ctx)
	if !slices.Contains(b.taking, account) {
		_, err = tx.Exec(ctx, "SET SESSION AUTHORIZATION "+ident(account))
		require.NoError(b.T, err)
	}
	for _, role := range b.taking {
		_, err = tx.Exec(ctx, "SET LOCAL ROLE "+ident(role))
		require.NoError(b.T, err)
	}
	if look == "" {
		look = text
	} else {
		if _, err = tx.Exec(ctx, text); err == nil {
			_, err = tx.Exec(ctx, "RESET SESSION AUTHORIZATION")
		}
	}
	if err == nil {
		var rows pgx.Rows
		rows, err = tx.Query(ctx, look)
		if err == nil {
			ids, err = pgx.CollectRows(rows, pgx.RowTo[string])
		}
	}
	if err != nil {
		var fault *pgconn.PgError
		require.ErrorAs(b.T, err, &fault)
		require.Equal(b.T, "42501", fault.Code, fault.Message)
		return nil, true
	}
	return ids, false
}

// gets lists the rows with which an account can do an operation, by doing it.
func (b *rowsBench) gets(account, operation string) (out []string) {
	switch operation {
	case "table.read":
		out, _ = b.as(account, "SELECT id FROM "+b.notes, "")
	case "table.update":
		out, _ = b.as(account, "UPDATE "+b.notes+" SET n = 1", "SELECT id FROM "+b.notes+" WHERE n = 1")
	case "table.delete":
		left, _ := b.as(account, "DELETE FROM "+b.notes, "SELECT id FROM "+b.notes)
		for _, r := range b.rows {
			if !slices.Contains(left, r.id) {
				out = append(out, r.id)
			}
		}
		if left == nil && len(out) == len(b.rows) { // refused, or all of them
			if _, denied := b.as(account, "DELETE FROM "+b.notes, "SELECT id FROM "+b.notes); denied {
				out = nil
			}
		}
	case "table.insert":
		for _, r := range b.rows {
			values := []string{literal(r.id), "2"}
			for _, v := range []*string{r.who, r.team} {
				if v == nil {
					values = append(values, "NULL")
				} else {
					values = append(values, literal(*v))
				}
			}
			if _, denied := b.as(account, "INSERT INTO "+b.notes+" VALUES ("+strings.Join(values, ", ")+")",
				"SELECT 'x'"); !denied {
				out = append(out, r.id)
			}
		}
	}
	slices.Sort(out)
	return out
}

// What a row policy says, as it is written, is so of the classes that it covers and of no other.
func TestARowPolicySpeaksOfItsClasses(t *testing.T) {
	columns := map[string]column{"who": {"who", "(who)::text"}, `T"eam`: {`"T""eam"`, `"T""eam"`}}
	rapid.Check(t, func(t *rapid.T) {
		var all []*target.RowClass
		texts := []string{"", "p1", "o'c, 'x'::text]))", "a'"}
		for _, who := range []target.Column{{Sort: target.Silent}, {Sort: target.Text, Value: "p1"}, {Sort: target.Own},
			{Sort: target.Other}} {
			for _, team := range []target.Column{{Sort: target.Silent}, {Sort: target.Text},
				{Sort: target.Text, Value: texts[2]}, {Sort: target.Text, Value: texts[3]}, {Sort: target.Other}} {
				who.Name, team.Name, who.Told, team.Told = "who", `T"eam`, texts, texts
				all = append(all, &target.RowClass{Columns: []target.Column{who, team}})
			}
		}
		var covered []*target.RowClass
		for _, c := range all {
			if rapid.Bool().Draw(t, "covered") {
				covered = append(covered, c)
			}
		}
		if len(covered) == 0 {
			return
		}
		text := textOf(columns, covered, all)
		for _, c := range all {
			assert.Equal(t, slices.Contains(covered, c), admits(text, columns, c, "somebody"), "%v: %s", c.Columns, text)
		}
	})
}

// Whatever a server's row policies say is read without harm; what hgate cannot read lets everything through.
func FuzzRowPolicy(f *testing.F) {
	f.Add("(who IS NULL)")
	f.Add("((who = ANY (ARRAY['a'::text, (CURRENT_USER)::text])) AND (who IS NOT NULL))")
	f.Add("(who <> ALL (ARRAY['it''s'::text]))")
	f.Add(strings.Repeat("(", 10000))
	f.Add("evil(who)")
	c := &target.RowClass{Columns: []target.Column{{Name: "who", Sort: target.Text, Value: "a"}}}
	columns := map[string]column{"who": {"who", "who"}}
	f.Fuzz(func(t *testing.T, text string) {
		if !strings.Contains(text, "who") && text != always {
			assert.True(t, admits(text, columns, c, "b"), text)
		}
		admits(text, columns, c, "b")
	})
}

// What somebody changes by hand is found, named and undone. Where a policy of somebody else's stands on a table, nobody
// gets at single rows by hgate.
func TestDriftOfRowPoliciesIsUndone(t *testing.T) {
	onEach(t, driftOfRowPoliciesIsUndone)
}

func driftOfRowPoliciesIsUndone(t *testing.T, address string, _ int) {
	b := newRowsBench(t, address)
	text := "hidden-gate: 1\nedition: 2\nsystems: {db: {kind: database, resources: {" + b.text +
		strings.Replace(targettest.Accounts(awkward), "people: {", "people: {nobody-else: {}, ", 1) +
		"roles: {in-db: {allow: [session.open]}, r: {allow: [table.read]}, keeper: {allow: [table.read, backup.take]}, " +
		"tidy: {allow: [table.delete]}}\n" +
		"grants: {in-db: {to: everyone, role: in-db, on: db}, enter: {to: everyone, role: r, on: db, when: {owner: true}}, " +
		"beside: {to: p0, role: r, on: db, when: {owner: false}}, keep: {to: p6, role: keeper, on: everything}, " +
		"tidy: {to: p6, role: tidy, on: db, when: {owner: true}}}\n"
	g := targettest.Load(t, text)
	b.Push(g)
	assert.Len(t, b.gets("p6", "table.read"), len(b.rows), "who may take backups reads all")
	assert.Len(t, b.gets("p6", "table.delete"), 6, "and deletes their own alone")
	own := b.gets("p5", "table.read")
	require.Len(t, own, 6)
	name := ident(`hgate:db:rows:SELECT to hgate:db:enter`)
	for _, drift := range [][2]string{
		{"ALTER POLICY " + name + " ON %s USING (true)", "the row policy hgate:db:rows:SELECT to hgate:db:enter"},
		{"ALTER POLICY " + name + " ON %s USING (id <> 'r1')", "the row policy hgate:db:rows:SELECT to hgate:db:enter"},
		{"ALTER TABLE %s DISABLE ROW LEVEL SECURITY", "ROW LEVEL SECURITY is off"},
		{"DROP POLICY " + name + " ON %s", "no row policy lets it through"},
		{`ALTER POLICY "hgate:db:rows:SELECT others" ON %s TO PUBLIC`, "the row policy hgate:db:rows:SELECT others"},
		{"ALTER ROLE p5 BYPASSRLS", "no row policy is in p5's way"},
		{`CREATE POLICY "hgate:db:rows:x" ON %s USING (true)`, "the row policy hgate:db:rows:x"},
	} {
		text, why := drift[0], drift[1]
		b.exec("%s", strings.ReplaceAll(text, "%s", b.notes))
		_, _, wrong := b.Ask(g)
		assert.Contains(t, strings.Join(wrong, "\n"), why)
		b.Push(g)
		_, _, wrong = b.Ask(g)
		require.Empty(t, wrong)
		require.Equal(t, own, b.gets("p5", "table.read"))
	}
	for _, is := range b.now().(*snapshot).objects { // a table that is closed to all but its owner stays closed
		for _, one := range is.policies {
			b.exec("DROP POLICY %s ON %s", ident(one.name), b.notes)
		}
	}
	b.exec("CREATE ROLE books; GRANT SELECT ON %s TO books; GRANT USAGE ON SCHEMA plain TO books", b.notes)
	assert.Contains(t, strings.Join(b.now().State().Aside, "\n"), "ROW LEVEL SECURITY is on without a row policy")
	b.Push(g)
	assert.Empty(t, b.gets("p5", "table.read"))
	assert.Empty(t, b.gets("books", "table.read"))
	b.exec("ALTER TABLE %s DISABLE ROW LEVEL SECURITY", b.notes)
	b.Push(g)
	assert.Equal(t, own, b.gets("p5", "table.read"))
	b.Push(targettest.Load(t, strings.Replace(text, rowColumns+", ", "", 1))) // rows are told apart no more
	assert.Empty(t, b.gets("p5", "table.read"))
	assert.Len(t, b.gets("books", "table.read"), len(b.rows), "row policies hide nothing any more")
	b.Push(g)
	assert.Len(t, b.gets("books", "table.read"), len(b.rows))
	b.exec("CREATE POLICY mine ON %s USING (n = 0)", b.notes)
	assert.Contains(t, strings.Join(b.now().State().Aside, "\n"), "a row policy that hgate did not make, mine")
	b.Push(g)
	assert.Empty(t, b.gets("p5", "table.read"))
	b.exec(`DROP POLICY mine ON %[1]s; ALTER TABLE %[1]s DISABLE ROW LEVEL SECURITY;
		ALTER TABLE %[1]s RENAME "Who" TO whoever`, b.notes)
	assert.Contains(t, strings.Join(b.now().State().Aside, "\n"), "it has no column Who of texts")
	b.Push(g)
	assert.Empty(t, b.gets("p5", "table.read"))
}

// Whoever the policy lets read or change a resource in a table, with the owner and tags that a row has, gets at that
// row, and at no other, whatever way the policy tells them apart.
func TestRowsAreWhosePolicySaysTheyAre(t *testing.T) {
	onEach(t, rowsAreWhosePolicySays)
}

func rowsAreWhosePolicySays(t *testing.T, address string, rounds int) {
	b := newRowsBench(t, address)
	b.exec("CREATE ROLE books LOGIN; GRANT SELECT, INSERT ON %s TO books; GRANT USAGE ON SCHEMA plain TO books", b.notes)
	tried, some := 0, 0
	for round := range rounds {
		d := rand.New(rand.NewPCG(uint64(round), 3))
		text := b.policy(d)
		g := targettest.Load(t, text)
		plan := b.Push(g)
		asked, _, wrong := b.Ask(g)
		require.Empty(t, wrong, "%s\n%s", text, targettest.Texts(plan))
		require.Positive(t, asked)
		c := g.NewContext()
		c.Time(targettest.At)
		for _, h := range b.Arrange(g, b.now(), nil).Holders {
			for _, operation := range []string{"table.read", "table.update", "table.delete", "table.insert"} {
				if operation == "table.insert" && round%4 != 0 {
					continue
				}
				want := []string{}
				for _, r := range b.rows {
					outcome, err := g.Decide(gate.Request{Subject: h.Subject, Operation: operation,
						Resource: "db:plain/no'tes/" + r.id, Context: c})
					require.NoError(t, err)
					if outcome == gate.Allow {
						want = append(want, r.id)
					}
				}
				slices.Sort(want)
				got := b.gets(h.Account, operation)
				require.Equal(t, want, append([]string{}, got...), "round %d: %s %s\n%s\n%s", round, h.Account, operation, text,
					targettest.Texts(plan))
				if operation == "table.read" { // by whatever roles somebody takes on, they see nothing else
					b.taking = []string{h.Account}
					assert.Equal(t, want, append([]string{}, b.gets(h.Account, operation)...), "the owner as %s", h.Account)
					for _, role := range b.now().(*snapshot).in[h.Account] {
						b.taking = []string{role}
						assert.Subset(t, want, append([]string{}, b.gets(h.Account, operation)...), "%s as %s", h.Account, role)
					}
					b.taking = nil
				}
				tried += len(b.rows)
				if len(want) > 0 && len(want) < len(b.rows) {
					some++
				}
			}
		}
		assert.Len(t, b.gets("books", "table.read"), len(b.rows), "who is outside hgate's care sees what they saw")
		assert.Len(t, b.gets("books", "table.insert"), len(b.rows))
	}
	t.Logf("tried %d", tried)
	assert.Greater(t, some, rounds)
}

func (b *rowsBench) now() target.Snapshot {
	snap, err := b.system.Read(b.T.Context())
	require.NoError(b.T, err)
	return snap
}
