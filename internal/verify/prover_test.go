package verify_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/verify"
)

const watched = `hidden-gate: 1
systems:
  db: {kind: database, unlisted: judge, resources: {sky: {}, sky/t: {}}}
  shut: {kind: database, resources: {sky: {}}}
  aside: {kind: database}
  spare: {kind: database}
people: {ana: {}, bo: {}, cai: {}, dee: {}, gone: {status: left}}
services: {job: {}, jot: {}}
groups: {crew: {members: [ana, bo]}, heads: {members: [cai]}}
roles: {drop: {allow: [table.drop]}, look: {allow: [table.view]}, read: {allow: [table.read]},
      save: {allow: [backup.take]}, undo: {allow: [backup.restore]}}
grants:
  crew-looks: {to: group:crew, role: look, on: 'db:sky'}
  frames: {to: bo, role: drop, on: {in: 'db:**/frame-*'}}
  heads-drop: {to: group:heads, role: drop, on: 'shut:sky', on-request: {longest: 1h}}
  days: {to: [ana, bo], role: save, on: shut, when: {hours: 'daily 06:00-18:00'}}
  nights: {to: [cai, service:job], role: save, on: shut, when: {hours: 'daily 18:00-06:00', mfa: true}}
  first: {to: [ana, gone], role: read, on: shut}
  second: {to: [ana, bo], role: read, on: shut}
  twins: {to: [dee, service:jot], role: undo, on: shut}
  by-day: {to: ana, role: save, on: aside, when: {hours: 'daily 06:00-18:00'}}
  by-night: {to: ana, role: undo, on: aside, when: {hours: 'daily 18:00-06:00'}}
  ever: {to: dee, roles: [save, undo], on: spare}
guarantees:
`

func TestGuarantees(t *testing.T) {
	for _, c := range []struct {
		what, says string
		want       string // "" if it holds; else the resources of the witness, and the grants that make it so
	}{
		{"only these", "{only: group:crew, may: table.view, on: everything}", ""},
		{"and somebody else", "{only: ana, may: table.view, on: everything}", "db:sky by crew-looks"},
		{"none of these", "{never: group:heads, may: table.view, on: everything}", ""},
		{"what may come", "{never: bo, may: table.drop, on: db}", "db:frame-new by frames"},
		{"nothing comes elsewhere", "{never: bo, may: table.drop, on: shut}", ""},
		{"once it is lent", "{never: cai, may: table.drop, on: shut}", "shut:sky by heads-drop"},
		{"people alone are counted", "{at-most: 3, may: backup.take, on: shut}", ""},
		{"people alone are counted among their likes", "{at-most: 1, may: backup.restore, on: shut}", ""},
		{"people are counted once", "{at-most: 2, may: table.read, on: shut}", ""},
		{"with as few grants as will do", "{at-most: 1, may: table.read, on: shut}", "shut:sky shut:sky by second"},
		{"with one at each moment", "{at-least: 1, may: backup.take, on: shut}", ""},
		{"with two at each moment", "{at-least: 2, may: backup.take, on: shut}", "shut at 2027-06-01T18:00Z left cai"},
		{"with one by several operations", "{at-least: 1, may: 'backup.*', on: aside}", ""},
		{"with one by one of them", "{at-least: 1, may: backup.take, on: aside}", "aside at 2027-06-01T18:00Z left"},
		{"whoever may several counts once", "{at-least: 2, may: 'backup.*', on: spare}",
			"spare at 2027-06-01T12:00Z left dee"},
		{"nobody who has to ask", "{at-least: 1, may: table.drop, on: 'shut:sky'}", "shut:sky at 2027-06-01T12:00Z left"},
		{"both", "{never-both: [table.view, table.drop], on: db}", "db:sky db:frame-new by crew-looks frames"},
		{"both, there", "{never-both: [table.view, table.drop], on: 'db:sky', same-resource: true}",
			"db:sky/new/frame-new db:sky/new/frame-new by crew-looks frames"},
		{"not both, there", "{never-both: [table.view, table.drop], on: {in: 'db:sky', exactly: true}, same-resource: true}",
			""},
		{"apart", "{apart: [group:crew, group:heads], may: 'table.*', on: db}", ""},
		{"together", "{apart: [group:crew, group:heads], may: 'backup.*', on: shut}", "shut shut by days nights"},
		{"under a condition", "{requires: {mfa: true}, may: backup.take, on: shut}", "shut by days"},
		{"as it is", "{requires: {hours: 'daily 06:00-18:00'}, may: table.drop, on: shut}", "shut:sky by heads-drop"},
		{"under its condition", "{requires: {any: [{mfa: true}, {hours: '06:00-18:00'}]}, may: backup.take, on: shut}", ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(watched + "  g: " + c.says + "\n")}})
			require.NoError(t, err)
			g, err := gate.Compile(e, nil)
			require.NoError(t, err)
			at, err := e.Zone.ParseTime("2027-06-01T12:00")
			require.NoError(t, err)
			v, err := verify.NewProver(g, verify.Of{Since: at}).Judge(t.Context(), e.Guarantees["g"])
			require.NoError(t, err)
			var got []string
			if w := v.Witness; w != nil && w.Resource != "" {
				got = append(got, w.Resource, "at", e.Zone.Format(w.At), "left")
				for _, p := range w.Left {
					got = append(got, p.ID)
				}
			} else if w != nil {
				for _, r := range w.Requests {
					got = append(got, r.Resource)
				}
				got = append(append(got, "by"), w.Grants...)
			}
			require.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}

func TestStatementsAreReadAsGuarantees(t *testing.T) {
	for text, want := range map[string]string{
		"never group:visitors may from change on scope:summit": "{never: ['group:visitors'], may: ['from " +
			"change'], on: ['scope:summit']}",
		"only  ana, not bo may table.*, only view on db:sky, {kind: server}": "{only: ['ana', 'not bo'], may: ['table.*', " +
			"'only view'], on: ['db:sky', {kind: server}]}",
		"at-least 2 may backup.restore on obsdb for 30d": "{at-least: 2, may: ['backup.restore'], for: 30d, on: ['obsdb']}",
		"at-most 0 may all on everything":                "{at-most: 0, may: ['all'], on: ['everything']}",
		"never-both a.b and c.d on everything same-resource": "{never-both: ['a.b', 'c.d'], same-resource: " +
			"true, on: ['everything']}",
		"apart group:a, group:b may all on {tags: {a: [b, c]}}": "{apart: ['group:a', 'group:b'], may: " +
			"['all'], on: [{tags: {a: [b, c]}}]}",
		"may from govern on 'db:it''s' requires {mfa: true}": "{may: ['from govern'], requires: {mfa: " +
			"true}, on: ['db:it''''s']}",
	} {
		got, err := verify.Statement(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got)
	}
	for _, text := range []string{"", "never", "never ana", "never ana may all", "at-least", "at-least 2", "may all on db",
		"apart a, b on db", "never-both a and b"} {
		_, err := verify.Statement(text)
		require.ErrorContains(t, err, "it is said as in", text)
	}
}
