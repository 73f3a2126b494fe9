package policyfile

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
	"hiddengate/internal/verify"
)

// selectionForm reads `table.read on obsdb:sky`.
var selectionForm = naming(form[estate.Selection]{
	name:   "OPERATION on PLACE",
	schema: pattern(`(all|(only|up to|from) (view|use|change|govern)|[a-z0-9.*-]*[*.][a-z0-9.*-]*) on [\p{L}\p{Nd}*].*`),
	read: func(r *reader, n *yaml.Node) (estate.Selection, bool) {
		return parse(r, n, "OPERATION on PLACE", func(text string) (estate.Selection, error) {
			s := estate.Selection{Text: text, Position: r.at(n)}
			what, where, found := strings.Cut(text, " on ")
			if !found {
				return s, fmt.Errorf("%q does not say where; write it as table.read on obsdb:sky", text)
			}
			var err error
			if s.Operation, err = estate.ParseOperationTerm(strings.TrimSpace(what)); err != nil {
				return s, err
			}
			if s.Place, err = estate.ParseResourceTerm(strings.TrimSpace(where)); err != nil {
				return s, err
			}
			s.Operation.Position, s.Place.Position = r.at(n), r.at(n)
			if s.Operation.Not || s.Place.Not {
				return s, fmt.Errorf("`not` has nothing to take away from in %q", text)
			}
			return s, nil
		})
	},
}, append([]string{NamesOperation}, placeSections...), func(s estate.Selection) Naming {
	return Naming{Operations: estate.Operations{s.Operation}, Resources: estate.Resources{s.Place}}
}, selectionWords)

var givenFields = slices.Concat(
	[]field{of("time", timeForm, "when; left out: now", func(g *estate.Given) **estate.Moment { return &g.Time })},
	factValues(),
	[]field{
		of("context", attributesForm, "the request's own attributes",
			func(g *estate.Given) *estate.Tags { return &g.Context }),
		of("roles", rolesForm, "the roles the session names", func(g *estate.Given) *[]estate.Ref { return &g.Roles }),
	})

// factValues makes a key for each fact.
func factValues() (out []field) {
	for _, f := range estate.Facts {
		out = append(out, fieldAt(f.Name, factForm(f), f.Given, func(g *estate.Given, values []string) {
			g.Facts = g.Facts.With(f.Name, values[0])
		}))
	}
	return out
}

var attributesForm = form[estate.Tags]{name: "attributes", schema: tagsForm.schema,
	read: func(r *reader, n *yaml.Node) (estate.Tags, bool) {
		tags, ok := tagsForm.read(r, n)
		for _, t := range tags {
			if err := estate.CheckAttribute(t.Key); err != nil {
				r.wrong(n, "", "%s", err)
				ok = false
			}
		}
		return tags, ok
	}}

var levelWords = []string{"none", "view", "use", "change", "govern", "all view", "all use", "all change", "all govern"}

// levelsForm reads the levels expected by subject and place.
var levelsForm = form[[]estate.LevelRule]{
	name: "levels by subject and place",
	schema: object{"type": "object", "propertyNames": principalOrAnonymous, "additionalProperties": object{
		"type": "object", "minProperties": 1, "additionalProperties": object{"enum": anys(levelWords)}}},
	read: func(r *reader, n *yaml.Node) ([]estate.LevelRule, bool) {
		var out []estate.LevelRule
		ok := r.pairs(n, "places and levels by subject", func(key, value *yaml.Node) {
			subject, ok := parse(r, key, "a subject", estate.ParsePrincipal)
			if !ok {
				return
			}
			r.pairs(value, "levels by place", func(place, level *yaml.Node) {
				rule := estate.LevelRule{Subject: subject, Position: r.at(place)}
				var ok bool
				if rule.Place, ok = parse(r, place, "a place", estate.ParseResourceTerm); !ok {
					return
				}
				rule.Place.Position = r.at(place)
				word, ok := oneOf("level", levelWords...).read(r, level)
				if !ok {
					return
				}
				word, rule.All = strings.CutPrefix(word, "all ")
				rule.None = word == "none"
				if !rule.None {
					rule.Level, _ = estate.ParseLevel(word)
				}
				out = append(out, rule)
			})
		})
		return out, ok
	},
	names: append(slices.Clone(subjectSections), placeSections...),
	naming: func(rules []estate.LevelRule, visit func(Naming)) {
		for _, rule := range rules {
			visit(Naming{
				Subjects:  estate.Subjects{{Principal: rule.Subject, Position: rule.Position}},
				Resources: estate.Resources{rule.Place},
			})
		}
	},
	sites: func(n *yaml.Node, path []string, visit func(Site)) {
		eachPair(n, func(subject, places *yaml.Node) {
			at := inside(path, subject.Value)
			visit(Site{Path: at, Node: subject, IsKey: true, Words: subjectWords(subject)})
			eachPair(places, func(place, _ *yaml.Node) {
				visit(Site{Path: inside(at, place.Value), Node: place, IsKey: true, Words: placeWords(place)})
			})
		})
	},
}

var principalOrAnonymous = principalForm.schema

var tests = sectionOf(heading{"tests", "test", "Examples of expected decisions."}, []field{
	of("who", subjectsForm, "the subjects; of a group, every member must pass",
		func(t *estate.Test) *estate.Subjects { return &t.Who }).vital().by(Owners),
	of("given", record[estate.Given]("request", "given", givenFields), "what the requests say; what is left out is open",
		func(t *estate.Test) *estate.Given { return &t.Given }).by(Owners),
	of("allowed", listOf(selectionForm), "every pair of these must be allowed",
		func(t *estate.Test) *[]estate.Selection { return &t.Allowed }).by(Owners),
	of("denied", listOf(selectionForm), "every pair of these must be denied",
		func(t *estate.Test) *[]estate.Selection { return &t.Denied }).by(Owners),
	of("levels", levelsForm,
		"how far each gets in a place and all inside it: `change` (some of it, nothing above), `all change`, `none`",
		func(t *estate.Test) *[]estate.LevelRule { return &t.Levels }).by(Owners),
}, func(e *estate.Estate) map[string]*estate.Test { return e.Tests }, func(r *reader, t *estate.Test, n *yaml.Node) {
	switch pairs := len(t.Allowed) + len(t.Denied); {
	case pairs == 0 && t.Levels == nil:
		r.wrong(n, "add allowed, denied or levels", "test %s expects nothing", t.ID)
	case pairs > 0 && t.Who == nil:
		r.wrong(n, "add who: SUBJECT", "test %s does not say who", t.ID)
	case pairs == 0 && t.Who != nil:
		r.wrong(n, "levels names its own subjects; take who out, or add allowed or denied", "test %s says who for nothing",
			t.ID)
	}
})

var guaranteeFields = append(statements(), []field{
	of("may", operationsForm, "the operations it speaks of",
		func(g *estate.Guarantee) *estate.Operations { return &g.May }).by(Owners),
	of("on", resourcesForm, "where", func(g *estate.Guarantee) *estate.Resources { return &g.On }).must().by(Owners),
	of("for", durationForm, "how far ahead at-least looks (7d, where left out)",
		func(g *estate.Guarantee) *time.Duration { return &g.For }).by(Owners),
	of("same-resource", flagForm, "never-both on one and the same resource only",
		func(g *estate.Guarantee) *bool { return &g.SameResource }).by(Owners),
}...)

// statements makes a key for each kind of guarantee.
func statements() (out []field) {
	for _, k := range verify.Kinds {
		switch k.Takes {
		case verify.TakesSubjects:
			out = append(out, statement(k, subjectsForm,
				func(g *estate.Guarantee) *estate.Subjects { return &g.Subjects }).vital())
		case verify.TakesNumber:
			out = append(out, statement(k, countForm(k.Least, 1_000_000), func(g *estate.Guarantee) *int { return &g.Count }))
		case verify.TakesOperations:
			out = append(out, statement(k, operationsForm, func(g *estate.Guarantee) *estate.Operations { return &g.Both }))
		case verify.TakesCondition:
			out = append(out, statement(k, conditionForm, func(g *estate.Guarantee) **condition { return &g.Requires }))
		}
	}
	return out
}

// statement makes the field of a kind of guarantee. Of each kind it gives its own value alone: several keep theirs in
// one place.
func statement[V any](k *verify.Kind, f form[V], at func(*estate.Guarantee) *V) field {
	out := fieldOf(string(k.Name), f, k.Doc, func(entry any) *V {
		switch g, ok := entry.(*estate.Guarantee); {
		case !ok:
			return nil
		case g.Kind != k.Name:
			return new(V)
		default:
			return at(g)
		}
	}).by(Owners)
	read := out.read
	out.read = func(r *reader, into any, n *yaml.Node) {
		into.(*estate.Guarantee).Kind = k.Name
		read(r, into, n)
	}
	return out
}

var guarantees = sectionOf(heading{"guarantees", "guarantee", "Statements that must hold of all decisions."},
	guaranteeFields,
	func(e *estate.Estate) map[string]*estate.Guarantee { return e.Guarantees }, finishGuarantee)

func finishGuarantee(r *reader, g *estate.Guarantee, n *yaml.Node) {
	kinds := verify.KindNames()
	if said := keysOf(n, kinds...); len(said) != 1 {
		r.wrong(n, "write one of "+strings.Join(kinds, ", "), "guarantee %s makes %d statements; it makes one", g.ID,
			len(said))
		return
	}
	k := verify.KindOf(g)
	if named := len(g.Subjects) + len(g.Both); k.Two != "" && named != 2 {
		r.wrong(n, fmt.Sprintf("write %s: %s", k.Name, k.Example), "%s names two %s, this names %d", k.Name, k.Two, named)
	}
	if !k.WithoutMay && g.May == nil {
		r.wrong(n, "add may: [OPERATION…]", "guarantee %s does not say of which operations it speaks", g.ID)
	}
	for _, other := range verify.Kinds {
		for _, key := range keysOf(n, other.Options...) {
			if other != k {
				r.wrong(n, "take it out", "%s goes with %s alone", key, other.Name)
			}
		}
	}
}
