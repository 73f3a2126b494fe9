package policyfile

import (
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/starter"
)

// FuzzLoad feeds any text as a file beside a sound workspace: it loads, or fails with errors that have places.
func FuzzLoad(f *testing.F) {
	for _, m := range mistakes {
		f.Add([]byte(m.text), []byte(""), []byte(""))
	}
	names, _ := fs.Glob(starter.Demo(), "*.yaml")
	for _, name := range names {
		text, _ := fs.ReadFile(starter.Demo(), name)
		f.Add(text, []byte("id,name\nx,y\n"), []byte("{\"at\": \"db:a\", \"type\": \"view\"}\n"))
	}
	f.Fuzz(func(t *testing.T, text, people, resources []byte) {
		if len(text)+len(people)+len(resources) > 1<<16 {
			return
		}
		e, err := Load(fstest.MapFS{
			"hidden-gate.yaml": {Data: []byte(sound + "inventories: [{people: p.csv}, {resources: r.ndjson}]\n")},
			"x.yaml":           {Data: text}, "p.csv": {Data: people}, "r.ndjson": {Data: resources},
		})
		if err == nil {
			if _, err := gate.Compile(e, nil); err != nil && len(err.Error()) == 0 {
				t.Error("an error without words")
			}
			return
		}
		for _, d := range err.(diagnostic.List) {
			if d.Position.File == "" || d.Message == "" {
				t.Errorf("an error without a place or words: %+v", d)
			}
		}
	})
}

// same says that what was read, written back, reads as the same.
func same(t *testing.T, text, a, b string, err error) {
	if err != nil || a != b {
		t.Errorf("%q was written as %q, which reads as %q (%v)", text, a, b, err)
	}
}

func FuzzSubject(f *testing.F) {
	for _, s := range []string{"ines.okafor", "not group:x", "person:a", "service:b", "everyone", "not anonymous", "é.x",
		"!group:x", "not not a"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if v, err := estate.ParseSubjectTerm(text); err == nil {
			w, err := estate.ParseSubjectTerm(v.String())
			same(t, text, v.String(), w.String(), err)
		}
	})
}

func FuzzOperation(f *testing.F) {
	for _, s := range []string{"table.read", "not table.*", "*.view", "all", "only view", "up to change",
		"not from govern", "a**b", "."} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		v, err := estate.ParseOperationTerm(text)
		if err != nil {
			return
		}
		w, err := estate.ParseOperationTerm(v.String())
		same(t, text, v.String(), w.String(), err)
		if v.Kind == estate.ByGlob && !v.Fits(&estate.Operation{Name: strings.ReplaceAll(v.Name, "*", "x")}, 1) {
			t.Errorf("%s does not fit what it becomes with each * filled in", v)
		}
	})
}

func FuzzResource(f *testing.F) {
	for _, s := range []string{"everything", "scope:y", "not scope:y", "obsdb:*/frames-*", "a:**/b", "db:a%2fb",
		"db:%C3%A9", "db:É", "*", "a:b:c", "a:../b", "db:**/**/x", "db:a%20", "db:a%E3%80%80"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if v, err := estate.ParseResourceTerm(text); err == nil {
			w, err := estate.ParseResourceTerm(v.String())
			same(t, text, v.String(), w.String(), err)
			if v.In != nil && v.In.Plain() && !v.In.Covers(v.In.Address(), false) {
				t.Errorf("%s does not cover itself", v)
			}
		}
		if a, err := estate.ParseAddress(text); err == nil {
			b, err := estate.ParseAddress(a.String())
			same(t, text, a.String(), b.String(), err)
			if estate.Fold(estate.Fold(a.Path)) != estate.Fold(a.Path) {
				t.Errorf("folding %q again changes it", a.Path)
			}
		}
	})
}

// FuzzCondition reads any text as a condition, and compiles what is one.
func FuzzCondition(f *testing.F) {
	for _, s := range []string{"mfa: true", "hours: [mon-fri 07:00-19:00, sat-mon 22:00-06:00]",
		"network: [10.0.0.0/8, '::ffff:1.2.3.0/120']", "not: {any: [{owner: true}, {same: team}]}",
		"context: {device: [a, '']}", "subject: {team: x}, resource: {env: y}",
		"sign-in: [key, token], reason: false, ticket: true", "any: []", "not: {}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 1<<12 || strings.Contains(text, "\n") {
			return
		}
		e, err := Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(sound)},
			"x.yaml": {Data: []byte("grants: {g: {to: ana, role: reader, on: db, when: {" + text + "}}}\n")}})
		if err != nil {
			return
		}
		if g, err := gate.Compile(e, nil); err == nil && e.Grants["g"] != nil {
			_, _ = g.EntryRegion(e.Grants["g"].When, nil, nil)
		}
	})
}

// FuzzTime reads any text as hours, network, duration, time and date.
func FuzzTime(f *testing.F) {
	for _, s := range []string{"mon-fri 07:00-19:00", "sat-mon 22:00-06:00", "10.0.0.0/8", "::ffff:1.2.3.4/104",
		"2031-12-01T22:00", "2026-10-25T00:30-01:00", "2027-03-28", "8h", "0001-10-01T00:00+00:00"} {
		f.Add(s)
	}
	zone, err := clock.LoadZone("Atlantic/Azores")
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if h, err := estate.ParseHours(text); err == nil {
			for _, r := range estate.WeekMinutes([]estate.Hours{h}) {
				if r[0] < 0 || r[0] >= r[1] || r[1] > clock.MinutesOfWeek {
					t.Errorf("the hours %q come to %v", text, r)
				}
			}
		}
		if p, err := estate.ParsePrefix(text); err == nil && p.Masked() != p {
			t.Errorf("%s has host bits", p)
		}
		if d, err := estate.ParseDuration(text); err == nil && d <= 0 {
			t.Errorf("the duration %q is %s", text, d)
		}
		if at, err := zone.ParseTime(text); err == nil {
			b, err := zone.ParseTime(zone.Format(at))
			same(t, text, zone.Format(at), zone.Format(b), err)
			if b != at {
				t.Errorf("the time %q is %d, written %s, which is %d", text, at, zone.Format(at), b)
			}
		}
		_, _ = estate.ParseMoment(zone, text)
		_, _ = estate.ParseAddr(text)
	})
}

// Whatever an inventory holds, it is read or refused with a place in it, in each of its forms.
func FuzzInventory(f *testing.F) {
	f.Add([]byte("id,name,groups,tag.team\nana,Ana,crew;more,x\n"), byte(0))
	f.Add([]byte(`{"id": "ana", "tags": {"a": "b"}}`+"\n"), byte(1))
	f.Add([]byte(`{"at": "db:a/b", "type": "table", "owner": "bo"}`+"\n"), byte(2))
	f.Add([]byte("at,type\ndb:a,table\n"), byte(3))
	f.Fuzz(func(t *testing.T, text []byte, form byte) {
		name := []string{"people: x.csv", "people: x.ndjson", "resources: x.ndjson", "resources: x.csv"}[form%4]
		files := fstest.MapFS{SettingsFile: {Data: []byte("hidden-gate: 1\ninventories: [{" + name +
			"}]\nsystems: {db: {kind: database}}\npeople: {bo: {}}\ngroups: {crew: {}}\n")},
			name[strings.Index(name, " ")+1:]: {Data: text}}
		_, err := Load(files)
		var list diagnostic.List
		if err != nil {
			require.ErrorAs(t, err, &list)
			for _, d := range list {
				require.NotEmpty(t, d.Position.File)
			}
		}
	})
}
