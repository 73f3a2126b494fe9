package policyfile

import (
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

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

// FuzzNotations feeds any text to every notation. What is read must be written back as something that reads the same.
func FuzzNotations(f *testing.F) {
	for _, s := range []string{"not group:x", "from change", "not table.*", "{in: x}", "scope:y", "obsdb:*/frames-*", "a:**/b", "db:a%2fb", "mon-fri 07:00-19:00",
		"sat-mon 22:00-06:00", "10.0.0.0/8", "::ffff:1.2.3.4/104", "2031-12-01T22:00", "2026-10-25T00:30-01:00", "2027-03-28", "8h", "all", "everyone", "é.x", "db:É"} {
		f.Add(s)
	}
	zone, err := clock.LoadZone("Atlantic/Azores")
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, text string) {
		same := func(what, a, b string, err error) {
			if err != nil || a != b {
				t.Errorf("%s %q was written as %q, which reads as %q (%v)", what, text, a, b, err)
			}
		}
		if v, err := estate.ParseSubjectTerm(text); err == nil {
			w, err := estate.ParseSubjectTerm(v.String())
			same("the subject", v.String(), w.String(), err)
		}
		if v, err := estate.ParseOperationTerm(text); err == nil {
			w, err := estate.ParseOperationTerm(v.String())
			same("the operation", v.String(), w.String(), err)
		}
		if v, err := estate.ParseResourceTerm(text); err == nil {
			w, err := estate.ParseResourceTerm(v.String())
			same("the resource", v.String(), w.String(), err)
			if v.In != nil && v.In.Plain() && !v.In.Covers(v.In.Address(), false) {
				t.Errorf("%s does not cover itself", v)
			}
		}
		if a, err := estate.ParseAddress(text); err == nil {
			b, err := estate.ParseAddress(a.String())
			same("the address", a.String(), b.String(), err)
			if estate.Fold(estate.Fold(a.Path)) != estate.Fold(a.Path) {
				t.Errorf("folding %q again changes it", a.Path)
			}
		}
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
			same("the time", zone.Format(at), zone.Format(b), err)
			if b != at {
				t.Errorf("the time %q is %d, written %s, which is %d", text, at, zone.Format(at), b)
			}
		}
		_, _ = estate.ParseMoment(zone, text)
		_, _ = estate.ParseAddr(text)
		_ = strings.TrimSpace(diagnostic.Nearest(text, []string{"table.read", "table.drop"}))
	})
}
