package cli

import (
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"hiddengate/internal/catalog"
	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/finding"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/newplace"
	"hiddengate/internal/verify"
	"hiddengate/internal/view"
)

// pair is one thing to say of an entry: a text, a truth value, a number or a list of texts. One that is empty is
// not said.
type pair struct {
	key   string
	value any
}

// later is the value of a pair that takes long to work out on a large estate, and is worked out when it is asked for.
type later func() any

// each is a list of texts that may be long, told one by one.
type each iter.Seq[string]

func (p pair) get() any {
	switch v := p.value.(type) {
	case later:
		return v()
	case each:
		return slices.AppendSeq([]string{}, iter.Seq[string](v))
	}
	return p.value
}

func (p pair) empty() bool {
	if v, ok := p.value.(each); ok {
		for range v {
			return false
		}
		return true
	}
	switch v := p.get().(type) {
	case string:
		return v == ""
	case bool:
		return !v
	case []string:
		return len(v) == 0
	}
	return false
}

func (p pair) text() string {
	value := p.get()
	switch v := value.(type) {
	case []string:
		return strings.Join(v, ", ")
	case bool:
		if v {
			return "yes"
		}
		return ""
	}
	return fmt.Sprint(value)
}

// mostBrief is how many characters a cell shows of what would fill a page.
const mostBrief = 120

// brief is its text, cut short.
func (p pair) brief() string {
	v, ok := p.value.(each)
	if !ok {
		return short(p.text())
	}
	var first []string
	size := 0
	for text := range v {
		if first, size = append(first, text), size+len(text); size > utf8.UTFMax*mostBrief {
			break // whatever follows is cut off
		}
	}
	return short(strings.Join(first, ", "))
}

// listed is one sort of thing that list and show know.
type listed struct {
	many, one string
	section   string   // of the files, for references; "" for none
	columns   []string // that list shows as text, the id first
	ids       func(*gate.Gate) []string
	describe  func(*gate.Gate, string) []pair
	// the same for all of them, quicker; nil if there is no such way
	bulk func(*gate.Gate) func(*gate.Gate, string) []pair
}

var listings = []listed{
	{"people", "person", "people", []string{"id", "name", "status", "ends", "last-seen", "groups"},
		sectionIDs("people"), describePerson, describeSubjects},
	{"services", "service", "services", []string{"id", "owner", "status", "ends", "last-seen", "groups"},
		sectionIDs("services"), describeService, describeServices},
	{"groups", "group", "groups", []string{"id", "about", "members"}, sectionIDs("groups"), describeGroup, nil},
	{"systems", "system", "systems", []string{"id", "kind", "title", "owner", "tags"}, sectionIDs("systems"),
		describeSystem, nil},
	{"profiles", "profile", "profiles", []string{"id", "about", "authority", "system", "longest", "approvals"},
		sectionIDs("profiles"), describeProfile, nil},
	{"resources", "resource", "", []string{"id", "type", "owner", "tags"}, resourceIDs, describeResource, nil},
	{"scopes", "scope", "scopes", []string{"id", "resources", "covers"}, sectionIDs("scopes"), describeScope,
		describeScopes},
	{"roles", "role", "roles", []string{"id", "about", "allow", "include"}, sectionIDs("roles"), describeRole, nil},
	{"grants", "grant", "grants", []string{"id", "to", "roles", "on", "when"}, sectionIDs("grants"), describeGrant, nil},
	{"blocks", "block", "blocks", []string{"id", "to", "deny", "on", "when"}, sectionIDs("blocks"), describeBlock, nil},
	{"separations", "separation", "separations", []string{"id", "roles", "at-most", "within"}, sectionIDs("separations"),
		describeSeparation, nil},
	{"delegations", "delegation", "delegations", []string{"id", "to", "may-grant", "on", "to-members-of"},
		sectionIDs("delegations"), describeDelegation, nil},
	{"tests", "test", "tests", []string{"id", "who", "allowed", "denied"}, sectionIDs("tests"), describeTest, nil},
	{"guarantees", "guarantee", "guarantees", []string{"id", "says", "may", "on"}, sectionIDs("guarantees"),
		describeGuarantee, nil},
	{"kinds", "kind", "catalogs", []string{"id", "about", "types", "operations"},
		func(g *gate.Gate) []string { return keys(g.Estate().Kinds) }, describeKind, nil},
	{"operations", "operation", "operations", []string{"id", "level", "risk", "about"},
		func(g *gate.Gate) []string { return keys(g.Estate().Operations) }, describeOperation, nil},
	{"templates", "template", "", []string{"id", "about"}, func(*gate.Gate) []string { return templateIDs() },
		describeTemplate, nil},
	{"findings", "finding", "", []string{"id", "severity", "about"},
		func(*gate.Gate) []string { return estate.FindingCodes }, describeFinding, nil},
}

func keys[T any](m map[string]T) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func ids(objects []*estate.Object) []string {
	var out []string
	for _, o := range objects {
		out = append(out, o.ID)
	}
	return out
}

func sectionIDs(section string) func(*gate.Gate) []string {
	return func(g *gate.Gate) []string { return ids(g.Estate().Section(section)) }
}

func resourceIDs(g *gate.Gate) []string {
	var out []string
	for row := range g.Estate().Tree.Len() {
		out = append(out, g.Estate().Tree.Address(row))
	}
	return out
}

// head is what every entry may say.
func head(o *estate.Object, rest ...pair) []pair {
	out := []pair{{"id", o.ID}, {"title", o.Title}, {"about", o.About}}
	out = append(out, rest...)
	out = append(out, pair{"why", o.Why})
	if o.Owner != nil {
		out = append(out, pair{"owner", o.Owner.String()})
	}
	out = append(out, pair{"protected", o.Protected})
	var accepted []string
	for _, a := range o.Accept {
		accepted = append(accepted, a.Finding+" ("+a.Why+")")
	}
	return append(out, pair{"accepts", accepted}, pair{"defined", o.Source.Short()})
}

func texts[T fmt.Stringer](list []T) []string {
	var out []string
	for _, t := range list {
		out = append(out, t.String())
	}
	return out
}

func refTexts(refs []estate.Ref) []string {
	var out []string
	for _, r := range refs {
		out = append(out, r.ID)
	}
	return out
}

func tagTexts(tags estate.Tags) []string {
	var out []string
	for _, t := range tags {
		if !estate.IsCertified(t.Key) { // no file says so
			out = append(out, t.Key+"="+t.Value)
		}
	}
	return out
}

func moment(m *estate.Moment) string {
	if m == nil {
		return ""
	}
	return m.Text
}

func describePerson(g *gate.Gate, id string) []pair { return describeSubject(g, g.Estate().People[id]) }

func describeService(g *gate.Gate, id string) []pair {
	return describeSubject(g, g.Estate().Services[id])
}

func describeSubject(g *gate.Gate, s *estate.Subject) []pair {
	var groups, grants, roles []string
	for _, id := range keys(g.Estate().Groups) {
		if g.InGroup(s.Principal(), id) {
			groups = append(groups, id)
		}
	}
	for _, gr := range estate.Sorted(g.Estate().Grants) {
		if who := g.Who(gr.To, s.Principal()); who.Selects() {
			grants = append(grants, gr.ID+" ("+view.Selection(who)+")")
			roles = append(roles, refTexts(gr.Roles)...)
		}
	}
	slices.Sort(roles)
	return subjectPairs(s, groups, grants, slices.Compact(roles))
}

// absences writes when a subject is away.
func absences(s *estate.Subject) (out []string) {
	for _, one := range s.Away {
		text := moment(one.Starts) + " to " + moment(one.Ends)
		if one.Why != "" {
			text += " (" + one.Why + ")"
		}
		out = append(out, text)
	}
	return out
}

func subjectPairs(s *estate.Subject, groups, grants []string, roles any) []pair {
	return head(&s.Object, pair{"name", s.Name}, pair{"email", s.Email}, pair{"status", s.Status},
		pair{"starts", moment(s.Starts)}, pair{"ends", moment(s.Ends)}, pair{"away", absences(s)},
		pair{"last-seen", moment(s.LastSeen)}, pair{"reserve", s.Reserve}, pair{"keys", s.Keys},
		pair{"tags", tagTexts(s.Tags)},
		pair{"groups", groups}, pair{"roles", roles}, pair{"grants", grants})
}

// describeSubjects works out who has what for all at once.
func describeSubjects(g *gate.Gate) func(*gate.Gate, string) []pair {
	return describeAll(g, func(id string) *estate.Subject { return g.Estate().People[id] })
}

func describeServices(g *gate.Gate) func(*gate.Gate, string) []pair {
	return describeAll(g, func(id string) *estate.Subject { return g.Estate().Services[id] })
}

func describeAll(g *gate.Gate, find func(string) *estate.Subject) func(*gate.Gate, string) []pair {
	groups := map[estate.Principal][]string{}
	for _, id := range keys(g.Estate().Groups) {
		for _, p := range g.Group(id) {
			groups[p] = append(groups[p], id)
		}
	}
	roles := sync.OnceValue(func() map[estate.Principal][]string {
		out := map[estate.Principal][]string{}
		for _, gr := range estate.Sorted(g.Estate().Grants) {
			for _, p := range g.Members(gr.To) {
				out[p] = append(out[p], refTexts(gr.Roles)...)
			}
		}
		return out
	})
	return func(_ *gate.Gate, id string) []pair {
		s := find(id)
		return subjectPairs(s, groups[s.Principal()], nil, later(func() any {
			return slices.Compact(slices.Sorted(slices.Values(roles()[s.Principal()])))
		}))
	}
}

func describeGroup(g *gate.Gate, id string) []pair {
	group := g.Estate().Groups[id]
	var match []string
	for _, m := range group.Match {
		if estate.IsCertified(m.Key) {
			match = append(match, m.Key)
			continue
		}
		match = append(match, m.Key+" is "+strings.Join(m.Values, " or "))
	}
	return head(&group.Object, pair{"listed", texts(group.Members)}, pair{"match", match},
		pair{"members", members(g, estate.InGroup(id))},
		pair{"stewards", texts(group.Stewards)}, pair{"tags", tagTexts(group.Tags)})
}

// members tells whom a list selects.
func members(g *gate.Gate, list estate.Subjects) each {
	return func(yield func(string) bool) {
		for p := range g.EachMember(list) {
			if !yield(p.String()) {
				return
			}
		}
	}
}

func describeSystem(g *gate.Gate, id string) []pair {
	s := g.Estate().Systems[id]
	unlisted := "refuse"
	if s.Judge {
		unlisted = "judge"
	}
	inside := each(func(yield func(string) bool) {
		tree := g.Estate().Tree
		first := tree.Find(s.ID)
		for row := first + 1; row < tree.End(first); row++ {
			if !yield(tree.Address(row)[len(s.ID)+1:]) {
				return
			}
		}
	})
	makes := ""
	if g.Estate().IsAuthority(s) {
		if makes = makesText(s); len(s.Anchors) == 0 {
			makes += ", and has no key yet"
		}
	}
	return head(
		&s.Object,
		pair{"kind", s.Kind.ID},
		pair{"makes", makes},
		pair{"tags", tagTexts(s.Tags)},
		pair{"unlisted", unlisted},
		pair{"precedence", refTexts(s.Precedence)},
		pair{"sign-in", s.SignIn},
		pair{"resources", inside},
	)
}

func describeResource(g *gate.Gate, id string) []pair {
	a, err := estate.ParseAddress(id)
	if err != nil {
		return nil
	}
	r := g.Estate().Listed(a)
	if r == nil {
		return nil
	}
	out := []pair{{"id", r.Address.String()}, {"type", r.Type}, {"kind", r.System.Kind.ID}, {"tags", tagTexts(r.Tags)}}
	if r.Owner != nil {
		out = append(out, pair{"owner", r.Owner.String()})
	}
	entry := g.Estate().Tree.Entry(r.Index)
	if entry != nil && entry.Rows != nil {
		out = append(out, pair{"rows", columnsTold(*entry.Rows)})
	}
	scopes := each(func(yield func(string) bool) {
		for _, s := range estate.Sorted(g.Estate().Scopes) {
			if g.Covers(s.Resources, r) && !yield(s.ID) {
				return
			}
		}
	})
	var operations []string
	for _, o := range g.Estate().Offer(r.System.Kind.ID).On(r.Type) {
		operations = append(operations, o.Name)
	}
	out = append(out, pair{"scopes", scopes}, pair{"operations", operations})
	if entry != nil {
		out = append(out, pair{"about", entry.About}, pair{"defined", entry.Source.Short()})
	}
	return out
}

// describeScopes is for all scopes: what they cover is looked for together.
func describeScopes(g *gate.Gate) func(*gate.Gate, string) []pair {
	var lists []estate.Resources
	for _, s := range estate.Sorted(g.Estate().Scopes) {
		lists = append(lists, s.Resources)
	}
	g.Learn(lists)
	return describeScope
}

func describeScope(g *gate.Gate, id string) []pair {
	s := g.Estate().Scopes[id]
	covers := each(func(yield func(string) bool) {
		for row := range g.Selected(s.Resources) {
			if !yield(g.Estate().Tree.Address(row)) {
				return
			}
		}
	})
	return head(&s.Object, pair{"resources", texts(s.Resources)}, pair{"covers", covers},
		pair{"later", later(func() any { return laterOf(g.Estate(), s.Resources) })})
}

// laterOf tells what a list would cover of what may come.
func laterOf(e *estate.Estate, list estate.Resources) (out []string) {
	const most = 6
	all := newplace.Newcomers(e, list)
	for _, a := range all[:min(len(all), most)] {
		out = append(out, a.String())
	}
	if more := len(all) - len(out); more > 0 {
		out = append(out, fmt.Sprintf("and %d ways more", more))
	}
	for _, t := range list {
		switch {
		case t.Not:
		case len(t.Tags) > 0:
			out = append(out, "whatever is tagged as "+t.String()+" says")
		case t.Everything, t.In != nil && strings.Contains(t.In.System, "*"), t.In == nil && t.Scope == "":
			out = append(out, "a new system that "+t.String()+" fits")
		}
	}
	return out
}

func describeRole(g *gate.Gate, id string) []pair {
	r := g.Estate().Roles[id]
	var comes []string
	for _, o := range g.RoleOperations(id) {
		comes = append(comes, o.Name)
	}
	has := func() any {
		applies := len(g.Used(id))
		return fmt.Sprintf("%s, %d of which %s where it is granted", count(len(comes), "operation"), applies,
			verb(applies, "apply"))
	}
	return head(&r.Object, pair{"include", refTexts(r.Include)}, pair{"allow", texts(r.Allow)}, pair{"has", later(has)},
		pair{"operations", comes}, pair{"applies", later(func() any { return g.Used(id) })},
		pair{"starts", moment(r.Starts)}, pair{"ends", moment(r.Ends)}, pair{"session", lasting(r.Session)},
		pair{"idle", lasting(r.Idle)}, pair{"signed-in-within", last(r.SignedIn)})
}

// lasting writes a duration; "" for none.
func lasting(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return estate.DurationText(d)
}

// last gives the last of some texts; "" for none.
func last(texts []string) string {
	if len(texts) == 0 {
		return ""
	}
	return texts[len(texts)-1]
}

func describeGrant(g *gate.Gate, id string) []pair {
	gr := g.Estate().Grants[id]
	var accepted []string
	for _, one := range gr.Acknowledged {
		text := fmt.Sprintf("%s by %s", one.Role.ID, one.By)
		if one.Date != nil {
			text += " on " + moment(one.Date)
		}
		accepted = append(accepted, text+": "+one.Why)
	}
	request := ""
	if gr.OnRequest != nil {
		request = "for up to " + estate.DurationText(gr.OnRequest.Longest)
		if len(gr.OnRequest.Approvers) > 0 {
			request += fmt.Sprintf(", %s by %s", count(gr.OnRequest.Approvals, "approval"),
				strings.Join(texts(gr.OnRequest.Approvers), ", "))
		}
	}
	return head(&gr.Object, pair{"to", texts(gr.To)}, pair{"roles", refTexts(gr.Roles)}, pair{"on", texts(gr.On)},
		pair{"when", view.Conditions(g, gr.When, gr.Starts, gr.Ends)},
		pair{"on-request", request}, pair{"acknowledged", accepted},
		pair{"members", members(g, gr.To)},
		pair{"covers", later(func() any { return count(g.Count(gr.On), "listed resource") })})
}

func describeBlock(g *gate.Gate, id string) []pair {
	b := g.Estate().Blocks[id]
	return head(&b.Object, pair{"to", texts(b.To)}, pair{"deny", texts(b.Deny)}, pair{"on", texts(b.On)},
		pair{"when", view.Conditions(g, b.When, b.Starts, b.Ends)})
}

func describeSeparation(g *gate.Gate, id string) []pair {
	s := g.Estate().Separations[id]
	within := "person"
	if s.Session {
		within = "session"
	}
	return head(&s.Object, pair{"roles", refTexts(s.Roles)}, pair{"at-most", s.AtMost}, pair{"within", within})
}

func describeDelegation(g *gate.Gate, id string) []pair {
	d := g.Estate().Delegations[id]
	longest := ""
	if d.Longest > 0 {
		longest = estate.DurationText(d.Longest)
	}
	return head(&d.Object, pair{"to", texts(d.To)}, pair{"may-grant", refTexts(d.MayGrant)},
		pair{"within", texts(d.Within)}, pair{"on", texts(d.On)},
		pair{"to-members-of", texts(d.ToMembersOf)}, pair{"longest", longest}, pair{"may-edit", texts(d.MayEdit)},
		pair{"to-self", d.ToSelf})
}

func describeProfile(g *gate.Gate, id string) []pair {
	p := g.Estate().Profiles[id]
	var names []string
	for _, n := range p.Names {
		names = append(names, n.Key+" from "+n.Value)
	}
	approvals := "none"
	if p.Approvals > 0 {
		approvals = fmt.Sprint(p.Approvals)
	}
	return head(&p.Object, pair{"address", p.Address().String()}, pair{"authority", p.Authority.ID},
		pair{"system", p.System.ID}, pair{"use", p.Use}, pair{"key", p.Takes()},
		pair{"longest", estate.DurationText(p.Longest)}, pair{"approvals", approvals}, pair{"approvers", texts(p.Approvers)},
		pair{"holders", texts(p.Holders)}, pair{"names", names}, pair{"open", p.Open},
		pair{"when", view.Conditions(g, nil, p.Starts, p.Ends)}, pair{"tags", tagTexts(p.Tags)})
}

func describeTest(g *gate.Gate, id string) []pair {
	t := g.Estate().Tests[id]
	selections := func(list []estate.Selection) []string {
		var out []string
		for _, s := range list {
			out = append(out, s.Text)
		}
		return out
	}
	var levels []string
	for _, l := range t.Levels {
		word := "none"
		if !l.None {
			word = l.Level.String()
			if l.All {
				word = "all " + word
			}
		}
		levels = append(levels, fmt.Sprintf("%s gets to %s on %s", l.Subject, word, l.Place))
	}
	return head(&t.Object, pair{"who", texts(t.Who)},
		pair{"given", strings.TrimSpace(askFlags(g.Estate().Zone, &t.Given))}, pair{"allowed", selections(t.Allowed)},
		pair{"denied", selections(t.Denied)}, pair{"levels", levels})
}

func describeGuarantee(g *gate.Gate, id string) []pair {
	gu := g.Estate().Guarantees[id]
	says := verify.SaysOf(gu, func(c *estate.Condition) string { return view.Conditions(g, c, nil, nil) })
	return head(&gu.Object, pair{"says", says}, pair{"may", texts(gu.May)}, pair{"on", texts(gu.On)})
}

// placed writes how types are told by place.
func placed(list estate.Tags) (out []string) {
	for _, t := range list {
		out = append(out, t.Key+": "+t.Value)
	}
	return out
}

func describeKind(g *gate.Gate, id string) []pair {
	k := g.Estate().Kinds[id]
	if k == nil {
		return nil
	}
	offer := g.Estate().Offer(id)
	out := []pair{{"id", id}, {"about", k.About}, {"based-on", k.BasedOn.ID}, {"types", offer.Types},
		{"named", placed(k.Named)}, {"inside", placed(k.Inside)}}
	var more []string
	for _, t := range offer.AllTypes {
		if !slices.Contains(offer.Types, t) {
			more = append(more, t)
		}
	}
	out = append(out, pair{"more types", more}, pair{"operations", len(offer.Operations)})
	if !k.BuiltIn {
		out = append(out, pair{"defined", k.Source.Short()})
	}
	return out
}

func describeOperation(g *gate.Gate, id string) []pair {
	o := g.Estate().Operations[id]
	if o == nil {
		return nil
	}
	risk := ""
	if o.HighRisk {
		risk = "high"
	}
	out := []pair{{"id", id}, {"about", o.About}, {"level", o.Level.String()}, {"risk", risk}, {"exclusive", o.Exclusive},
		{"needs", o.Needs}, {"opens", o.Opens}, {"notice", o.Notice}}
	var applies, roles []string
	for _, k := range estate.Sorted(g.Estate().Kinds) {
		offer := g.Estate().Offer(k.ID)
		var types []string
		for _, t := range offer.AllTypes {
			if offer.Valid(id, t) != nil {
				types = append(types, t)
			}
		}
		if types != nil {
			applies = append(applies, k.ID+" ("+strings.Join(types, ", ")+")")
		}
	}
	for _, r := range keys(g.Estate().Roles) {
		if g.RoleHas(r, id) {
			roles = append(roles, r)
		}
	}
	var needed []string
	for _, other := range estate.Sorted(g.Estate().Operations) {
		if slices.Contains(other.Needs, id) {
			needed = append(needed, other.Name)
		}
	}
	return append(out, pair{"needed by", needed}, pair{"applies to", applies}, pair{"in roles", roles})
}

func templateIDs() []string {
	var out []string
	for _, t := range catalog.Templates() {
		out = append(out, t.ID)
	}
	return out
}

func describeTemplate(g *gate.Gate, id string) []pair {
	for _, t := range catalog.Templates() {
		if t.ID != id {
			continue
		}
		var list estate.Operations
		for _, text := range t.Allow {
			term, _ := estate.ParseOperationTerm(text) // a test has read them all
			list = append(list, term)
		}
		var comes []string
		for _, o := range g.Estate().Offer(t.Kind).Operations {
			if list.Fit(o, g.Estate().Edition) {
				comes = append(comes, o.Name)
			}
		}
		return []pair{{"id", id}, {"about", t.About}, {"kind", t.Kind}, {"allow", t.Allow}, {"operations", comes},
			{"use", "hgate add role ID --template " + id}}
	}
	return nil
}

func describeFinding(g *gate.Gate, id string) []pair {
	for _, f := range finding.All {
		if f.Code == id {
			severity := f.Severity
			set := ""
			if s, ok := g.Estate().Severities[id]; ok {
				severity, set = s, "by this workspace"
			}
			return []pair{{"id", id}, {"about", f.Doc}, {"severity", severity.String()}, {"set", set}, {"do", f.Cure},
				{"settings", "check: {" + id + ": " + strings.Join(diagnostic.SeverityNames(), " | ") + "}"},
				{"accept", "accept: {finding: " + id + ", why: …, ends: …}, at the entry"}}
		}
	}
	return nil
}

// columnsTold says which columns tell the rows of a table apart.
func columnsTold(rows estate.Rows) string {
	var out []string
	if rows.Owner != "" {
		out = append(out, "owner in "+rows.Owner)
	}
	for _, tag := range rows.Tags {
		out = append(out, "tag "+tag.Key+" in "+tag.Value)
	}
	return "told apart by " + strings.Join(out, ", ")
}
