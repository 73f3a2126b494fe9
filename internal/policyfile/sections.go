package policyfile

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
)

// sections is the table of fields: everything a file may hold, in the order in which people work.
var sections []*section

func init() {
	sections = slices.Concat(
		in("systems.yaml", catalogs, systems, profiles),
		in("people.yaml", people, services, groups),
		in("access.yaml", roles, scopes, grants, blocks, separations, delegations),
		in("tests.yaml", tests, guarantees))
}

// in says in which file the entries of some sections go where there are none yet.
func in(file string, some ...*section) []*section {
	for _, s := range some {
		s.home = file
	}
	return some
}

var typesForm = listOf(scalarForm("type of resource", pattern(`[a-z0-9-]+`),
	func(_ *reader, text string) (string, error) {
		return text, estate.CheckResourceType(text)
	}))

// needForm names an operation; Operation.Needs keeps no place of its own.
var needForm = naming(textForm, []string{NamesOperation},
	func(name string) Naming { return Naming{Section: NamesOperation, Entries: []estate.Ref{{ID: name}}} },
	entryWords(NamesOperation))

var operationFields = []field{
	of("level", oneOf("level", estate.LevelNames()...), "how far it goes",
		func(o *operation) *string { return &o.level }).must(),
	of("about", textForm, "what it does, in a few words", func(o *operation) *string { return &o.About }),
	of("types", typesForm, "the types of resource it applies to; left out: every type of its kind",
		func(o *operation) *[]string { return &o.Types }),
	of("needs", listOf(needForm),
		"operations without which it is of no use, at the resource or the nearest place above where they are valid",
		func(o *operation) *[]string { return &o.Needs }),
	of("risk", oneOf("risk", "high"), "it can do great harm", func(o *operation) *string { return &o.risk }),
	of("exclusive", flagForm, "one subject at a time", func(o *operation) *bool { return &o.Exclusive }),
	of("opens", listOf(oneOf("way to further access", estate.Opens...)), "the subject can get further access through it",
		func(o *operation) *[]string { return &o.Opens }),
	of("notice", textForm, "shown before an edit hands it out", func(o *operation) *string { return &o.Notice }),
}

type operation struct {
	estate.Operation
	level, risk string
}

var operationMap = form[[]*estate.Operation]{
	name: "operations by name",
	schema: object{"type": "object", "propertyNames": object{"pattern": `^[a-z][a-z0-9-]*(\.[a-z][a-z0-9-]*)+$`},
		"additionalProperties": object{"$ref": "#/$defs/operation"}},
	read: func(r *reader, n *yaml.Node) ([]*estate.Operation, bool) {
		var out []*estate.Operation
		ok := r.pairs(n, "operations by name", func(key, value *yaml.Node) {
			name, ok := parse(r, key, "an operation's name",
				func(text string) (string, error) { return text, estate.CheckOperationName(text) })
			o := operation{Operation: estate.Operation{Name: name, Position: r.at(key)}}
			before := len(r.errors)
			if !ok || !r.fields(operationFields, &o, value, owner{"operation " + name, r.at(key)}) || len(r.errors) > before {
				return
			}
			o.Level, _ = estate.ParseLevel(o.level)
			o.HighRisk = o.risk == "high"
			out = append(out, &o.Operation)
		})
		slices.SortFunc(out, func(a, b *estate.Operation) int { return strings.Compare(a.Name, b.Name) })
		return out, ok
	},
	naming: func(list []*estate.Operation, visit func(Naming)) {
		for _, o := range list {
			tableNamings(operationFields, &operation{Operation: *o}, func(n Naming) {
				for i := range n.Entries {
					n.Entries[i].Position = o.Position
				}
				visit(n)
			})
		}
	},
	sites: func(n *yaml.Node, path []string, visit func(Site)) {
		eachPair(n, func(name, body *yaml.Node) { tableSites(operationFields, body, inside(path, name.Value), visit) })
	},
}

var caseForm = form[bool]{name: "word: fold", schema: object{"const": "fold"},
	read: func(r *reader, n *yaml.Node) (bool, bool) {
		_, ok := oneOf("treatment of case", "fold").read(r, n)
		return ok, ok
	}}

// typesByPlace reads types by a key that says where they are.
func typesByPlace(name string, checkKey func(string) error) form[estate.Tags] {
	return form[estate.Tags]{name: name, schema: object{"type": "object", "additionalProperties": anyScalar},
		read: func(r *reader, n *yaml.Node) (estate.Tags, bool) {
			var out estate.Tags
			ok := r.pairs(n, name+", as in {accounts: account}", func(key, value *yaml.Node) {
				if err := checkKey(key.Value); err != nil {
					r.wrong(key, "", "%s", err)
				}
				if text, ok := textForm.read(r, value); ok {
					if err := estate.CheckResourceType(text); err != nil {
						r.wrong(value, "", "%s", err)
					}
					out = append(out, estate.Tag{Key: key.Value, Value: text})
				}
			})
			slices.SortFunc(out, func(a, b estate.Tag) int { return strings.Compare(a.Key, b.Key) })
			return out, ok
		}}
}

// checkName sees that a text is one segment of an address, as canonical.
func checkName(text string) error {
	path, err := estate.CanonicalPath(text)
	if err == nil && (path != text || strings.Contains(path, "/")) {
		err = fmt.Errorf("%q is no name in an address: write one segment, as accounts", text)
	}
	return err
}

var catalogs = sectionOf(
	heading{"catalogs", "kind", "A kind of system of your own, or one that adds to another."}, []field{
		of("based-on", kindForm, "the kind whose operations it has too",
			func(k *estate.Kind) *estate.Ref { return &k.BasedOn }).nests().by(Owners),
		of("types", typesForm, "the default type by depth, where `named` and `inside` say none: the system, what stands "+
			"in it, …; the last for all below",
			func(k *estate.Kind) *[]string { return &k.Types }).by(Owners),
		of("named", typesByPlace("types by name", checkName), "the type of what stands right in the system, by its name",
			func(k *estate.Kind) *estate.Tags { return &k.Named }).by(Owners),
		of("inside", typesByPlace("types by type", estate.CheckResourceType),
			"the type of what stands inside a resource, by that one's type",
			func(k *estate.Kind) *estate.Tags { return &k.Inside }).by(Owners),
		of("case", caseForm, "`fold`: addresses ignore case", func(k *estate.Kind) *bool { return &k.Fold }).by(Owners),
		of("operations", operationMap, "what can be done to such a system",
			func(k *estate.Kind) *[]*estate.Operation { return &k.Operations }).by(Owners),
	}, func(e *estate.Estate) map[string]*estate.Kind { return e.Kinds }, nil)

var systemFields = []field{
	of("kind", kindForm, "what kind of system it is",
		func(s *estate.System) *estate.Ref { return &s.Kind }).must().by(Owners),
	of("makes", oneOf("sort of credential", estate.Makings...),
		"of an authority: `x509` certificates (the default), or user certificates for `ssh`",
		func(s *estate.System) *string { return &s.Makes }).by(Owners),
	of("anchors", listOf(textForm), "of an authority: the certificates, as DER in base64, or for ssh the public keys, by "+
		"which its credentials are told; the first is in use",
		func(s *estate.System) *[]string { return &s.Anchors }).by(Owners),
	of("chain", listOf(textForm), "of an authority under others: their certificates, each signed by the next",
		func(s *estate.System) *[]string { return &s.Chain }).by(Owners),
	of("tags", tagsForm, "values for conditions and scopes; what is inside inherits them",
		func(s *estate.System) *estate.Tags { return &s.Tags }).by(ByEffect),
	of("unlisted", judgeForm, "an address in no inventory: `refuse` (the default) or `judge`",
		func(s *estate.System) *bool { return &s.Judge }).by(Owners),
	of("precedence", rolesForm, "whose role wins an exclusive operation; the first is highest, unnamed roles come last",
		func(s *estate.System) *[]estate.Ref { return &s.Precedence }).by(Owners),
	of(
		"sign-in",
		listOf(oneOf("way to sign in", estate.SignIns...)),
		"how people sign in there; whoever has access and nothing of that is told of (no-sign-in)",
		func(s *estate.System) *[]string { return &s.SignIn },
	).by(Owners),
	of("resources", resourceMap, "what is inside, by path; parents are implied",
		func(s *estate.System) *[]*estate.Entry { return &s.Resources }).by(ByEffect),
}

var judgeForm = form[bool]{name: "word: refuse, judge", schema: object{"enum": []any{"refuse", "judge"}},
	read: func(r *reader, n *yaml.Node) (bool, bool) {
		word, ok := oneOf("treatment of unlisted addresses", "refuse", "judge").read(r, n)
		return word == "judge", ok
	}}

var resourceFields = append([]field{
	of("type", scalarForm("type of resource", pattern(`[a-z0-9-]+`), func(_ *reader, text string) (string, error) {
		return text, estate.CheckResourceType(text)
	}), "its type; left out: by where it stands", func(e *estate.Entry) *string { return &e.Type }).by(ByEffect),
	of("tags", tagsForm, "values of its own; an empty one clears what it would inherit",
		func(e *estate.Entry) *estate.Tags { return &e.Tags }).by(ByEffect),
	{name: "owner", doc: "its owner, instead of an inherited one; empty: none", form: ownerForm.name,
		schema: object{"anyOf": []any{ownerForm.schema, object{"const": ""}}}, read: func(r *reader, into any, n *yaml.Node) {
			e := into.(*estate.Entry)
			if n.Kind == yaml.ScalarNode && n.Value == "" {
				e.NoOwner = true
			} else if p, ok := ownerForm.read(r, n); ok {
				e.Owner = p
			}
		}, authority: ByControl, value: func(entry any) (any, bool) {
			e, ok := entry.(*estate.Entry)
			if !ok {
				return nil, false
			}
			return []any{e.Owner, e.NoOwner}, true
		}, names: ownerForm.names, sites: ownerForm.sites, namings: func(entry any, visit func(Naming)) {
			if e, ok := entry.(*estate.Entry); ok {
				visit(ownerNaming(e.Owner))
			}
		}},
	of("rows", rowsForm, "of a table: the columns that say of each row who owns it and what tags it has, as in "+
		"`{owner: COLUMN, tags: {KEY: COLUMN}}`; the owner's holds the name of an account",
		func(e *estate.Entry) **estate.Rows { return &e.Rows }).by(Owners),
}, slices.DeleteFunc(slices.Clone(common), func(f field) bool { return f.name == "owner" })...)

var rowsForm = pointer(withEachColumnOnce(record[estate.Rows]("columns", "the columns of its rows", []field{
	of("owner", textForm, "the column with the name of the account whose person or service owns the row",
		func(r *estate.Rows) *string { return &r.Owner }),
	of("tags", tagsForm, "of each tag by which rows are told apart, the column with its value",
		func(r *estate.Rows) *estate.Tags { return &r.Tags }),
})))

// withEachColumnOnce refuses columns of which one says two things, or that say nothing.
func withEachColumnOnce(f form[estate.Rows]) form[estate.Rows] {
	read := f.read
	f.read = func(r *reader, n *yaml.Node) (estate.Rows, bool) {
		rows, ok := read(r, n)
		var columns []string
		if rows.Owner != "" {
			columns = append(columns, rows.Owner)
		}
		for _, tag := range rows.Tags {
			columns = append(columns, tag.Value)
		}
		slices.Sort(columns)
		switch {
		case !ok:
			return rows, false
		case len(columns) == 0 || columns[0] == "":
			r.wrong(n, "write {owner: COLUMN} or {tags: {KEY: COLUMN}}", "no column is named")
		case len(slices.Compact(slices.Clone(columns))) < len(columns):
			r.wrong(n, "name a column once", "one column says two things of a row")
		default:
			return rows, true
		}
		return rows, false
	}
	return f
}

var resourceMap = form[[]*estate.Entry]{
	name:   "resources by path",
	schema: object{"type": "object", "additionalProperties": object{"$ref": "#/$defs/resource"}},
	read: func(r *reader, n *yaml.Node) ([]*estate.Entry, bool) {
		var out []*estate.Entry
		ok := r.pairs(n, "resources by path", func(key, value *yaml.Node) {
			path, ok := parse(r, key, "a path", func(text string) (string, error) {
				if _, err := pathForm.read(r, key); !err {
					return "", fmt.Errorf("%q is no path", text)
				}
				return estate.CanonicalPath(text)
			})
			e := &estate.Entry{Object: estate.Object{Source: estate.Source{Position: r.at(key)}},
				Address: estate.Address{Path: path}}
			e.Source.Start, e.Source.End = r.text.Extent(n, key)
			if ok && r.fields(resourceFields, e, value, owner{"resource " + path, r.at(key)}) {
				out = append(out, e)
			}
		})
		return out, ok
	},
	sites: func(n *yaml.Node, path []string, visit func(Site)) {
		eachPair(n, func(key, body *yaml.Node) {
			system, at := path[1], inside(path, key.Value)
			in := func(one Site) {
				one.Section, one.ID = "resources", system+":"+key.Value
				visit(one)
			}
			in(Site{Key: "inside it", Path: at, Node: key, IsKey: true, Words: pathWord(system, key)})
			tableSites(resourceFields, body, at, in)
		})
	},
}

var systems = sectionOf(
	heading{"systems", "system", "The things that are administered, and what is inside each."}, systemFields,
	func(e *estate.Estate) map[string]*estate.System { return e.Systems }, nil)

var subjectFields = append([]field{
	of("status", oneOf("status", estate.Statuses...), "`active` (the default); the others decide as inactive",
		func(s *estate.Subject) *string { return &s.Status }).by(Owners),
	of("tags", tagsForm, "values for conditions and groups",
		func(s *estate.Subject) *estate.Tags { return &s.Tags }).by(ByEffect),
	of("last-seen", momentForm, "when it was last used",
		func(s *estate.Subject) **estate.Moment { return &s.LastSeen }).by(Free),
	of("reserve", flagForm, "an account for emergencies alone",
		func(s *estate.Subject) *bool { return &s.Reserve }).by(Owners),
	of(
		"keys",
		listOf(keyForm),
		"public SSH keys with which the subject signs, and signs in to servers, as in a file that ends in .pub",
		func(s *estate.Subject) *[]string { return &s.Keys },
	).by(Owners),
	of("away", listOf(absenceForm), "when it is away, and may do nothing",
		func(s *estate.Subject) *[]estate.Absence { return &s.Away }).by(Owners),
}, times(Owners, func(s *estate.Subject) **estate.Moment { return &s.Starts },
	func(s *estate.Subject) **estate.Moment { return &s.Ends })...)

var personFields = append([]field{
	of("name", textForm, "the person's name", func(s *estate.Subject) *string { return &s.Name }).by(Free),
	of("email", textForm, "where to reach them", func(s *estate.Subject) *string { return &s.Email }).by(Owners),
}, subjectFields...)

var people = sectionOf(heading{"people", "person", "Who signs in."}, personFields,
	func(e *estate.Estate) map[string]*estate.Subject { return e.People }, finishPerson)

var services = sectionOf(heading{"services", "service", "Accounts that programs use."}, subjectFields,
	func(e *estate.Estate) map[string]*estate.Subject { return e.Services }, finishService)

func finishPerson(_ *reader, s *estate.Subject, _ *yaml.Node) {
	if s.Status == "" {
		s.Status = estate.Statuses[0]
	}
}

func finishService(r *reader, s *estate.Subject, n *yaml.Node) {
	s.Service = true
	finishPerson(r, s, n)
}

var groups = sectionOf(heading{"groups", "group", "People and services that get the same."}, []field{
	of("members", membersForm, "who belongs to it",
		func(g *estate.Group) *estate.Subjects { return &g.Members }).nests().by(Delegated),
	matchField.by(Owners),
	of("stewards", subjectsForm, "who looks after its membership",
		func(g *estate.Group) *estate.Subjects { return &g.Stewards }).by(ByControl),
	of("tags", tagsForm, "values for listings", func(g *estate.Group) *estate.Tags { return &g.Tags }).by(Free),
}, func(e *estate.Estate) map[string]*estate.Group { return e.Groups }, func(r *reader, g *estate.Group, n *yaml.Node) {
	onlyNot := len(g.Members) > 0 && !slices.ContainsFunc(g.Members, func(t estate.SubjectTerm) bool { return !t.Not })
	if onlyNot && g.Match == nil {
		r.wrong(n, "add members or match", "group %s gathers nobody: it has only `not` entries", g.ID)
	}
})

var roles = sectionOf(heading{"roles", "role", "Named sets of operations."}, append([]field{
	of("include", rolesForm, "roles whose operations it has too",
		func(o *estate.Role) *[]estate.Ref { return &o.Include }).nests().by(ByEffect),
	of("allow", allowForm, "the operations it has",
		func(o *estate.Role) *estate.Operations { return &o.Allow }).by(ByEffect),
	of("at-most", countForm(1, 1_000_000), "how many people and services may hold it",
		func(o *estate.Role) *int { return &o.AtMost }).by(Owners),
	of("at-most-per-system", countForm(1, 1_000_000), "how many may hold it in one system",
		func(o *estate.Role) *int { return &o.AtMostPerSystem }).by(Owners),
	of("at-least", countForm(1, 1_000_000), "how many people and services have to hold it",
		func(o *estate.Role) *int { return &o.AtLeast }).by(Owners),
	of("at-least-per-system", countForm(1, 1_000_000), "how many have to hold it in each system in which it is granted",
		func(o *estate.Role) *int { return &o.AtLeastPerSystem }).by(Owners),
	of(
		"session",
		durationForm,
		"for how long whoever signs in with it stays so; as long as the system says, where left out",
		func(o *estate.Role) *time.Duration { return &o.Session },
	).by(Owners),
	of("idle", durationForm, "after how long without doing anything they are signed out",
		func(o *estate.Role) *time.Duration { return &o.Idle }).by(Owners),
	of("signed-in-within", recentForm, "it gives something only to whoever signed in no longer ago than this",
		func(o *estate.Role) *[]string { return &o.SignedIn }).by(ByEffect),
	of("acknowledge", textForm, "what whoever grants it has to accept",
		func(o *estate.Role) *string { return &o.Acknowledge }).by(Owners),
}, times(ByEffect, func(o *estate.Role) **estate.Moment { return &o.Starts },
	func(o *estate.Role) **estate.Moment { return &o.Ends })...),
	func(e *estate.Estate) map[string]*estate.Role { return e.Roles }, func(r *reader, o *estate.Role, n *yaml.Node) {
		if o.Include == nil && !slices.ContainsFunc(o.Allow, func(t estate.OperationTerm) bool { return !t.Not }) {
			r.wrong(n, "add allow: [OPERATION…] or include: [ROLE…]", "role %s gathers no operation", o.ID)
		}
	})

// scopes are written as the list of what is in them; one that says more of itself has the list under `resources`.
var scopes = sectionOf(heading{"scopes", "scope", "Named sets of resources. A scope is written as the list of what " +
	"is in it; one that carries a title or the like has the list under `resources`."}, []field{
	of("resources", resourcesForm, "what is in it",
		func(s *estate.Scope) *estate.Resources { return &s.Resources }).must().nests().by(ByEffect),
}, func(e *estate.Estate) map[string]*estate.Scope { return e.Scopes }, nil).written("resources")

var grants = sectionOf(
	heading{"grants", "grant", "Who gets which role, where, when and under which condition."}, append([]field{
		of("to", subjectsForm, "who gets it", func(g *estate.Grant) *estate.Subjects { return &g.To }).must().by(Delegated),
		of("role", rolesForm, "the role they get",
			func(g *estate.Grant) *[]estate.Ref { return &g.Roles }).vital().by(Delegated),
		of("roles", rolesForm, "the same for several",
			func(g *estate.Grant) *[]estate.Ref { return &g.Roles }).vital().another().by(Delegated),
		of("on", resourcesForm, "where", func(g *estate.Grant) *estate.Resources { return &g.On }).must().by(Delegated),
		of("when", conditionForm, "what must hold of the request",
			func(g *estate.Grant) **condition { return &g.When }).by(Delegated),
		of("on-request", pointer(record[estate.OnRequest]("request", "on-request", requestFields)),
			"it is lent for a limited time, and not standing",
			func(g *estate.Grant) **estate.OnRequest { return &g.OnRequest }).by(Delegated),
		of("acknowledged", listOf(acknowledgementForm), "who accepted what its roles ask to be acknowledged",
			func(g *estate.Grant) *[]estate.Acknowledgement { return &g.Acknowledged }).by(ByControl),
	}, times(Delegated, func(g *estate.Grant) **estate.Moment { return &g.Starts },
		func(g *estate.Grant) **estate.Moment { return &g.Ends })...),
	func(e *estate.Estate) map[string]*estate.Grant { return e.Grants }, func(r *reader, g *estate.Grant, n *yaml.Node) {
		if keys := keysOf(n, "role", "roles"); len(keys) != 1 {
			r.wrong(n, "write role: ROLE, or roles: [ROLE…]", "grant %s has %d of the keys role and roles; it needs one", g.ID,
				len(keys))
		}
	})

var acknowledgementFields = []field{
	of("role", roleForm, "the role", func(a *estate.Acknowledgement) *estate.Ref { return &a.Role }).must(),
	of("by", textForm, "who accepted it", func(a *estate.Acknowledgement) *string { return &a.By }).must(),
	of("why", textForm, "why", func(a *estate.Acknowledgement) *string { return &a.Why }).must(),
	of("date", momentForm, "when", func(a *estate.Acknowledgement) **estate.Moment { return &a.Date }),
}

var acknowledgementForm = record[estate.Acknowledgement]("acknowledgement", "an acknowledgement", acknowledgementFields)

var requestFields = []field{
	of("longest", durationForm, "for how long at most",
		func(o *estate.OnRequest) *time.Duration { return &o.Longest }).must(),
	of("approvers", subjectsForm, "who may approve it",
		func(o *estate.OnRequest) *estate.Subjects { return &o.Approvers }),
	of("approvals", countForm(0, 100), "how many of them have to approve",
		func(o *estate.OnRequest) *int { return &o.Approvals }),
	of("reason", flagForm, "the request must say why", func(o *estate.OnRequest) *bool { return &o.Reason }),
	of("ticket", flagForm, "the request must name a ticket", func(o *estate.OnRequest) *bool { return &o.Ticket }),
	of("emergency", flagForm, "in an emergency it may be had at once, and an approver signs it off afterwards",
		func(o *estate.OnRequest) *bool { return &o.Emergency }),
	of("decide-within", durationForm, "after how long a request lapses that nobody decided (24h, where left out)",
		func(o *estate.OnRequest) *time.Duration { return &o.DecideWithin }),
}

var blocks = sectionOf(heading{"blocks", "block", "Prohibitions; they win over every grant."}, append([]field{
	of("to", subjectsForm, "whom it stops; left out: everyone and anonymous",
		func(b *estate.Block) *estate.Subjects { return &b.To }).vital().by(Owners),
	of("deny", operationsForm, "what it stops",
		func(b *estate.Block) *estate.Operations { return &b.Deny }).must().by(Owners),
	of("on", resourcesForm, "where", func(b *estate.Block) *estate.Resources { return &b.On }).must().by(Owners),
	of("when", conditionForm, "when it stops them; left out: always",
		func(b *estate.Block) **condition { return &b.When }).by(Owners),
}, times(Owners, func(b *estate.Block) **estate.Moment { return &b.Starts },
	func(b *estate.Block) **estate.Moment { return &b.Ends })...),
	func(e *estate.Estate) map[string]*estate.Block { return e.Blocks }, func(_ *reader, b *estate.Block, _ *yaml.Node) {
		if b.To == nil {
			b.To = estate.Subjects{{Principal: estate.Principal{Kind: estate.IsEveryone}, Position: b.Source.Position},
				{Principal: estate.Principal{Kind: estate.IsAnonymous}, Position: b.Source.Position}}
		}
	})

var separations = sectionOf(heading{"separations", "separation", "Roles that one subject must not combine."}, []field{
	of("roles", rolesForm, "the roles, each for all it includes as well",
		func(s *estate.Separation) *[]estate.Ref { return &s.Roles }).must().by(Owners),
	of("at-most", countForm(1, 1000), "how many of them are allowed (1, where left out)",
		func(s *estate.Separation) *int { return &s.AtMost }).by(Owners),
	of("within", withinForm, "`person`: held at all; `session`: used at once",
		func(s *estate.Separation) *bool { return &s.Session }).must().by(Owners),
}, func(e *estate.Estate) map[string]*estate.Separation { return e.Separations },
	func(r *reader, s *estate.Separation, n *yaml.Node) {
		s.AtMost = max(s.AtMost, 1)
		if len(s.Roles) <= s.AtMost {
			r.wrong(n, "name more roles than at-most allows",
				"separation %s keeps nothing apart: it names %d roles and allows %d", s.ID, len(s.Roles), s.AtMost)
		}
	})

var withinForm = form[bool]{name: "word: person, session", schema: object{"enum": []any{"person", "session"}},
	read: func(r *reader, n *yaml.Node) (bool, bool) {
		word, ok := oneOf("reach of a separation", "person", "session").read(r, n)
		return word == "session", ok
	}}

var delegations = sectionOf(heading{"delegations", "delegation", "Who may hand out what, where, to whom."}, []field{
	of("to", subjectsForm, "who may hand out",
		func(d *estate.Delegation) *estate.Subjects { return &d.To }).must().by(Owners),
	of("may-grant", rolesForm, "the roles they may hand out",
		func(d *estate.Delegation) *[]estate.Ref { return &d.MayGrant }).vital().by(Owners),
	of("within", operationsForm, "and never more than this",
		func(d *estate.Delegation) *estate.Operations { return &d.Within }).by(Owners),
	of("on", resourcesForm, "where", func(d *estate.Delegation) *estate.Resources { return &d.On }).vital().by(Owners),
	of("to-members-of", subjectsForm, "to whom",
		func(d *estate.Delegation) *estate.Subjects { return &d.ToMembersOf }).vital().by(Owners),
	of("longest", durationForm, "for how long at most",
		func(d *estate.Delegation) *time.Duration { return &d.Longest }).by(Owners),
	of("may-edit", subjectsForm, "the groups whose members they may add and take out",
		func(d *estate.Delegation) *estate.Subjects { return &d.MayEdit }).vital().by(Owners),
	of("to-self", flagForm, "they may hand out to themselves",
		func(d *estate.Delegation) *bool { return &d.ToSelf }).by(Owners),
}, func(e *estate.Estate) map[string]*estate.Delegation { return e.Delegations }, nil)

// keysOf gives which of the names are keys of a mapping.
func keysOf(n *yaml.Node, names ...string) []string {
	var found []string
	for i := 0; i+1 < len(n.Content); i += 2 {
		if slices.Contains(names, n.Content[i].Value) {
			found = append(found, n.Content[i].Value)
		}
	}
	return found
}
