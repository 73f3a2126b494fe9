package policyfile

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/catalog"
	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
)

// settings is what hidden-gate.yaml says of the workspace itself.
type settings struct {
	version     int
	edition     int
	passwords   estate.Passwords
	title       string
	zone        *clock.Zone
	ignore      []string
	inventories []inventory
	severities  map[string]diagnostic.Severity
	owner       *estate.SubjectTerm
	losses      string
	actors      map[string]estate.SubjectTerm
	signing     string
	// what findings are measured by
	temporary    []estate.Match
	dormantAfter time.Duration
}

// inventory is a bulk list: a file of people or of resources.
type inventory struct {
	people, resources string
	at                diagnostic.Position
}

var zoneForm = scalarForm("time zone", object{"type": "string"}, func(_ *reader, text string) (*clock.Zone, error) {
	zone, err := clock.LoadZone(text)
	if err != nil {
		if near := diagnostic.Nearest(text, clock.ZoneNames()); near != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, near)
		}
	}
	return zone, err
})

var inventoryFields = []field{
	of("people", textForm, "a CSV or NDJSON file of people", func(i *inventory) *string { return &i.people }),
	of("resources", textForm, "a CSV or NDJSON file of resources", func(i *inventory) *string { return &i.resources }),
}

var inventoryForm = form[inventory]{name: "people: FILE or resources: FILE", schema: tableSchema(inventoryFields),
	read: func(r *reader, n *yaml.Node) (inventory, bool) {
		i := inventory{at: r.at(n)}
		ok := r.fields(inventoryFields, &i, n, owner{"an inventory", r.at(n)})
		if ok && (i.people == "") == (i.resources == "") {
			r.wrong(n, "write {people: FILE} or {resources: FILE}", "an inventory is of people or of resources")
			ok = false
		}
		return i, ok
	}}

var severitiesForm = form[map[string]diagnostic.Severity]{
	name:   "severity by finding",
	schema: object{"type": "object", "additionalProperties": object{"enum": anys(diagnostic.SeverityNames())}},
	read: func(r *reader, n *yaml.Node) (map[string]diagnostic.Severity, bool) {
		out := map[string]diagnostic.Severity{}
		ok := r.pairs(n, "severities by finding", func(key, value *yaml.Node) {
			if word, ok := oneOf("severity", diagnostic.SeverityNames()...).read(r, value); ok {
				if !slices.Contains(estate.FindingCodes, key.Value) {
					r.wrong(key, nearestHelp(key.Value, estate.FindingCodes), "there is no finding %q", key.Value)
					return
				}
				out[key.Value], _ = diagnostic.ParseSeverity(word)
			}
		})
		return out, ok
	},
}

// workspaceOwnerForm keeps where the owner is named, who is looked for once all people are read.
var workspaceOwnerForm = naming(form[*estate.SubjectTerm]{name: ownerForm.name, schema: ownerForm.schema,
	read: func(r *reader, n *yaml.Node) (*estate.SubjectTerm, bool) {
		p, ok := ownerForm.read(r, n)
		if !ok {
			return nil, false
		}
		return &estate.SubjectTerm{Principal: *p, Position: r.at(n)}, true
	}}, subjectSections, func(t *estate.SubjectTerm) Naming {
	if t == nil {
		return Naming{}
	}
	return Naming{Subjects: estate.Subjects{*t}}
}, subjectWords)

var passwordFields = []field{
	of("length", countForm(credential.LeastPassword, 128),
		"how many characters a password has at least (16, where left out)",
		func(p *estate.Passwords) *int { return &p.Length }),
	of("longest", durationForm, "for how long it lets in (90d, where left out)",
		func(p *estate.Passwords) *time.Duration { return &p.Longest }),
	of("first", durationForm, "for how long one lets in that somebody else set (24h, where left out)",
		func(p *estate.Passwords) *time.Duration { return &p.First }),
}

var settingFields = []field{
	of(Version, countForm(1, 1), "the format's version: 1",
		func(s *settings) *int { return &s.version }).must().by(Nobodys),
	of("edition", countForm(1, catalog.Edition),
		"the edition of the built-in catalogs; newer operations join no glob until it is raised",
		func(s *settings) *int { return &s.edition }).by(Nobodys),
	of("estate", textForm, "what the workspace describes", func(s *settings) *string { return &s.title }).by(Free),
	of("timezone", zoneForm, "IANA name; every local time in the files is in it (UTC, where left out)",
		func(s *settings) **clock.Zone { return &s.zone }).by(Nobodys),
	of("ignore", listOf(textForm), "files and folders that are not read; `*` within a name, `**` over folders",
		func(s *settings) *[]string { return &s.ignore }).by(Nobodys),
	of("inventories", listOf(inventoryForm), "bulk lists of people and resources",
		func(s *settings) *[]inventory { return &s.inventories }).by(ByEffect),
	of("temporary", tagMatches, "tags of people and services who do not stay (kind: temporary, where left out)",
		func(s *settings) *[]estate.Match { return &s.temporary }).by(Nobodys),
	of("dormant-after", durationForm, "after how long somebody who was not seen is dormant (90d, where left out)",
		func(s *settings) *time.Duration { return &s.dormantAfter }).by(Nobodys),
	of("check", severitiesForm, "severities of findings: error, warning, note, off",
		func(s *settings) *map[string]diagnostic.Severity { return &s.severities }).by(Nobodys),
	of("owner", workspaceOwnerForm,
		"whose the workspace is: a person, `service:ID` or `group:ID`; theirs are the settings, and every entry that names "+
			"no owner", func(s *settings) **estate.SubjectTerm { return &s.owner }).by(Nobodys),
	of("losses", oneOf("whose it is to take access away", "free", "delegated"),
		"`free` (the default): anybody may take access away; `delegated`: that needs a delegation too",
		func(s *settings) *string { return &s.losses }).by(Nobodys),
	of("actors", actorsForm,
		"who acts by which user of the operating system; a user whose name is a person's id needs no entry",
		func(s *settings) *map[string]estate.SubjectTerm { return &s.actors }).by(Nobodys),
	of("passwords", record[estate.Passwords]("rules for passwords", "the rules for passwords", passwordFields),
		"what passwords are like that `hgate credential password` sets",
		func(s *settings) *estate.Passwords { return &s.passwords }).by(Nobodys),
	of("signing", oneOf("need for signatures", "optional", "required"),
		"`required`: asking, approving, refusing and ending count only with the signature of who does it",
		func(s *settings) *string { return &s.signing }).by(Nobodys),
}

func (l *loader) readSettings(d *document) {
	s := settings{edition: 1, zone: clock.UTC, temporary: []estate.Match{{Key: "kind", Values: []string{"temporary"}}},
		dormantAfter: 90 * 24 * time.Hour}
	seen := false
	for _, root := range d.roots {
		if root.Kind != yaml.MappingNode {
			continue
		}
		only := &yaml.Node{Kind: yaml.MappingNode, Line: root.Line, Column: root.Column}
		for i := 0; i+1 < len(root.Content); i += 2 {
			if slices.Contains(fieldNames(settingFields), root.Content[i].Value) {
				only.Content = append(only.Content, root.Content[i], root.Content[i+1])
			}
		}
		if len(only.Content) == 0 {
			continue
		}
		if seen {
			d.wrong(only.Content[0], "put the settings into one document", "settings stand in two documents")
			continue
		}
		seen = true
		d.fields(settingFields, &s, only, owner{"the workspace", d.at(root)})
	}
	if !seen && len(l.errors) == 0 {
		l.fail(diagnostic.Position{File: SettingsFile, Line: 1, Column: 1}, "begin it with hidden-gate: 1",
			"the workspace needs the key %q", Version)
	}
	l.settings, l.zone = s, s.zone
	l.estate.Title, l.estate.Edition, l.estate.Zone = s.title, s.edition, s.zone
	l.estate.LossesDelegated = s.losses == "delegated"
	l.estate.SigningRequired = s.signing == "required"
	rules := estate.DefaultPasswords
	if s.passwords.Length > 0 {
		rules.Length = s.passwords.Length
	}
	if s.passwords.Longest > 0 {
		rules.Longest = s.passwords.Longest
	}
	if s.passwords.First > 0 {
		rules.First = s.passwords.First
	}
	l.estate.Passwords = rules
	for user, t := range s.actors {
		if l.estate.Actors == nil {
			l.estate.Actors = map[string]estate.Principal{}
		}
		l.estate.Actors[user] = t.Principal
	}
	if s.owner != nil {
		l.estate.Owner = &s.owner.Principal
	}
	l.estate.Temporary, l.estate.DormantAfter = s.temporary, s.dormantAfter
	if s.severities != nil {
		l.estate.Severities = s.severities
	}
}

// ignores says whether a file or folder is one that `ignore` names.
func (s settings) ignores(name string) bool {
	for _, pattern := range s.ignore {
		pattern = strings.TrimSuffix(strings.TrimPrefix(pattern, "./"), "/")
		if estate.GlobPath(pattern, name) || estate.GlobPath(strings.TrimSuffix(pattern, "/**"), name) {
			return true
		}
	}
	return false
}
