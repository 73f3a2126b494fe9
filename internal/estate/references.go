package estate

import (
	"slices"

	"hiddengate/internal/diagnostic"
)

// Reference is a place at which one entry names another.
type Reference struct {
	Section  string // of the entry that names
	ID       string
	Key      string // under which it names
	Position diagnostic.Position
}

// References lists where entries name the entry of a section, section by section.
func (e *Estate) References(section, id string) []Reference {
	var out []Reference
	add := func(section string, o *Object, key string, at diagnostic.Position) {
		out = append(out, Reference{section, o.ID, key, at})
	}
	refs := func(of, in string, o *Object, key string, list ...Ref) {
		for _, ref := range list {
			if of == section && ref.ID == id {
				add(in, o, key, ref.Position)
			}
		}
	}
	principal := map[string]PrincipalKind{"people": IsPerson, "services": IsService, "groups": IsGroup}
	kind, isPrincipal := principal[section]
	subjects := func(section string, o *Object, key string, list Subjects) {
		for _, t := range list {
			if isPrincipal && t.Kind == kind && t.ID == id {
				add(section, o, key, t.Position)
			}
		}
	}
	places := func(in string, o *Object, key string, list Resources) {
		for _, t := range list {
			if section == "scopes" && t.Scope == id || section == "systems" && t.In != nil && t.In.System == id {
				add(in, o, key, t.Position)
			}
			for _, k := range t.Kinds {
				if section == "kinds" && k == id {
					add(in, o, key, t.Position)
				}
			}
		}
	}
	operations := func(in string, o *Object, key string, list Operations) {
		for _, t := range list {
			if section == "operations" && t.Kind == ByName && t.Name == id {
				add(in, o, key, t.Position)
			}
		}
	}
	for _, name := range SectionNames {
		for _, o := range e.Section(name) {
			if isPrincipal && o.Owner != nil && *o.Owner == (Principal{kind, id}) {
				add(name, o, "owner", o.Source.Position)
			}
		}
	}
	for _, k := range Sorted(e.Kinds) {
		refs("kinds", "catalogs", &k.Object, "based-on", k.BasedOn)
	}
	for _, s := range Sorted(e.Systems) {
		refs("kinds", "systems", &s.Object, "kind", s.Kind)
		refs("roles", "systems", &s.Object, "precedence", s.Precedence...)
	}
	if isPrincipal {
		for i := range e.Tree.Rows {
			if o := e.Tree.Owners[e.Tree.Rows[i].Owner]; o != nil && *o == (Principal{kind, id}) {
				if r := e.Tree.At(i); r.Entry != nil && r.Entry.Owner != nil {
					out = append(out, Reference{"resources", r.Address.String(), "owner", r.Entry.Source.Position})
				}
			}
		}
	}
	for _, g := range Sorted(e.Groups) {
		subjects("groups", &g.Object, "members", g.Members)
		subjects("groups", &g.Object, "stewards", g.Stewards)
	}
	for _, r := range Sorted(e.Roles) {
		refs("roles", "roles", &r.Object, "include", r.Include...)
		operations("roles", &r.Object, "allow", r.Allow)
	}
	for _, s := range Sorted(e.Scopes) {
		places("scopes", &s.Object, "resources", s.Resources)
	}
	for _, g := range Sorted(e.Grants) {
		subjects("grants", &g.Object, "to", g.To)
		refs("roles", "grants", &g.Object, "role", g.Roles...)
		places("grants", &g.Object, "on", g.On)
		if g.OnRequest != nil {
			subjects("grants", &g.Object, "approvers", g.OnRequest.Approvers)
		}
	}
	for _, b := range Sorted(e.Blocks) {
		subjects("blocks", &b.Object, "to", b.To)
		operations("blocks", &b.Object, "deny", b.Deny)
		places("blocks", &b.Object, "on", b.On)
	}
	for _, s := range Sorted(e.Separations) {
		refs("roles", "separations", &s.Object, "roles", s.Roles...)
	}
	for _, d := range Sorted(e.Delegations) {
		subjects("delegations", &d.Object, "to", d.To)
		subjects("delegations", &d.Object, "to-members-of", d.ToMembersOf)
		subjects("delegations", &d.Object, "may-edit", d.MayEdit)
		refs("roles", "delegations", &d.Object, "may-grant", d.MayGrant...)
		places("delegations", &d.Object, "on", d.On)
	}
	for _, t := range Sorted(e.Tests) {
		subjects("tests", &t.Object, "who", t.Who)
		refs("roles", "tests", &t.Object, "given", t.Given.Roles...)
		for _, s := range slices.Concat(t.Allowed, t.Denied) {
			operations("tests", &t.Object, "expects", Operations{s.Operation})
			places("tests", &t.Object, "expects", Resources{s.Place})
		}
		for _, rule := range t.Levels {
			subjects("tests", &t.Object, "levels", Subjects{{Principal: rule.Subject, Position: rule.Position}})
			places("tests", &t.Object, "levels", Resources{rule.Place})
		}
	}
	for _, g := range Sorted(e.Guarantees) {
		subjects("guarantees", &g.Object, string(g.Kind), g.Subjects)
		operations("guarantees", &g.Object, "may", g.May)
		places("guarantees", &g.Object, "on", g.On)
	}
	return out
}
