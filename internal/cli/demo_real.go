package cli

import (
	"fmt"
	"strings"

	"hiddengate/internal/target"
	"hiddengate/internal/target/postgres"
	"hiddengate/internal/view"
)

// realStep is a stop of the walk on a real database: a command, or what somebody does there by hand.
type realStep struct {
	words string
	args  []string
	sql   string
}

// addressed stands for the database's address.
const addressed = "ADDRESS"

// tables are those of the demo's inventory.
const tables = `CREATE SCHEMA sky;
CREATE TABLE sky.catalogue (id serial PRIMARY KEY, star text);
CREATE TABLE sky."frames-0388" (id serial PRIMARY KEY, frame text);
CREATE TABLE sky."frames-0411" (id serial PRIMARY KEY, frame text);`

var realWalk = []realStep{
	{"A real database gets the tables of the inventory,", nil, tables},
	{"and your own settings say how it is reached.",
		[]string{"connect", "obsdb", "--driver", "postgres", "--at", addressed, "--accounts", "create"}, ""},
	{"What becomes of each operation there?", []string{"compile", "obsdb", "--fidelity"}, ""},
	{"What does it have, that the policy does not list?", []string{"pull", "obsdb", "--dry-run"}, ""},
	{"What has to be told to it, grant by grant?", []string{"push", "obsdb", "--dry-run"}, ""},
	{"It is told, all of it or nothing,", []string{"push", "obsdb", "--yes"}, ""},
	{"and asked, as each of its accounts.", []string{"probe", "obsdb"}, ""},
	{"Somebody changes it by hand.", nil, `GRANT SELECT ON sky."frames-0388" TO PUBLIC;
GRANT pg_signal_backend TO "lucas.amarel";`},
	{"That is found, with its cause,", []string{"probe", "obsdb"}, ""},
	{"undone,", []string{"push", "obsdb", "--yes"}, ""},
	{"and gone.", []string{"probe", "obsdb"}, ""},
}

// walkReal goes on with a real database at an address.
func (a *app) walkReal(p *view.Page, dir, at string) error {
	for i, s := range realWalk {
		p.Line("\n%s", p.Paint(view.Heading, fmt.Sprintf("%d. %s", len(walk)+i+1, s.words)))
		if s.sql != "" {
			p.Line("")
			for line := range strings.Lines(s.sql) {
				p.Line("  %s", strings.TrimSuffix(line, "\n"))
			}
			if err := postgres.Run(a.ctx, target.Connection{At: at}, s.sql); err != nil {
				return outside{err}
			}
			continue
		}
		args := append([]string(nil), s.args...)
		for k, word := range args {
			if word == addressed {
				args[k] = at
			}
		}
		if err := a.step(p, dir, step{args: args}); err != nil {
			return err
		}
	}
	return nil
}
