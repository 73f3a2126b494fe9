package change

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/survey"
)

// Fix is an edit that would allow a request, or stop it, and what it does beside.
type Fix struct {
	Kind     string   // membership, grant, new role, scope, role, operation, condition or block
	Commands []string // words of hgate, each as the shell would have them apart
	Effect   *Effect  // nil where it was not to be kept
	Beside   Beside
	// Gives says that it takes nothing from anybody, Takes that it gives nobody anything.
	Gives, Takes bool
	// Weight counts the subjects, operations and resources that are there and change. Where the edit is about what several
	// get, whoever joins them later counts as one more.
	Weight int
	coming int // the same of what may come
	of     *proposal
}

// Beside is what an edit does apart from the request: to how many others, and what more for the one who asks.
type Beside struct {
	Others     int      `json:"others"`
	Operations []string `json:"operations"`       // all that change, by name
	Resources  int      `json:"resources"`        // on which something changes
	Coming     bool     `json:"coming,omitempty"` // it is about what may come, too
}

// beside counts what an effect changes for others than the one who asks, and where.
func beside(e *Effect, req gate.Request) Beside {
	others, names, beyond := map[estate.Principal]bool{}, map[string]bool{}, map[string]bool{}
	listed, resources := make([]bool, e.After.Tree.Len()), 0
	for _, l := range e.Lines {
		for _, who := range l.Subjects {
			if who != req.Subject {
				others[who] = true
			}
		}
		for _, o := range l.Operations {
			names[o] = true
		}
		for pile := range l.Piles.All() {
			for row, address := range pile.Rows(e.After) {
				switch {
				case row < 0:
					beyond[address()] = true
				case !listed[row]:
					listed[row] = true
					resources++
				}
			}
		}
	}
	return Beside{Others: len(others), Operations: append([]string{}, slices.Sorted(maps.Keys(names))...),
		Resources: resources + len(beyond), Coming: len(e.Coming) > 0}
}

// fewForFixes is up to how many people all findings are looked for that each edit makes come and go.
const fewForFixes = 200

// Fixes proposes edits that would allow a request that is not allowed, or stop one that is. Each was made on a copy of
// the estate and the request decided again; those that do not do it are left out. They come with the least side effect
// first: on what is there, and where that is as much, on what may come. Of the first so many the effect is kept, and
// told what they do to what may come; of all, if that is asked for. quote writes a word for a shell. Where many edits
// might do it, those that seem broadest are left untried, and counted.
func Fixes(ctx context.Context, g *gate.Gate, req gate.Request, now clock.Instant, keep int, all bool,
	quote func(string) string) (fixes []Fix, untried int, err error) {
	outcome, err := g.Decide(req)
	if err != nil {
		return nil, 0, err
	}
	f := fixer{estate: g.Estate(), gate: g, req: req, quote: quote, since: now, want: gate.Allow, keep: keep,
		proposed: map[string]bool{}, broad: &breadths{estate: g.Estate(), gate: g}}
	place, err := estate.ParseAddress(req.Resource)
	if err != nil {
		return nil, 0, err
	}
	if f.resource, err = g.Place(place); err != nil {
		return nil, 0, err
	}
	if outcome == gate.Allow {
		f.want = gate.Deny
		err = f.stop()
	} else {
		err = f.allow()
	}
	if err != nil {
		return nil, 0, err
	}
	possible := narrowest(f.found)
	untried = len(f.found) - len(possible)
	all = all || keep >= len(possible)
	out, err := f.tried(ctx, possible, !all)
	if err != nil || all {
		return out, untried, err
	}
	told := min(keep, len(out))
	for told > 0 && told < len(out) && out[told].Weight == out[keep-1].Weight && out[told].of.last == out[keep-1].of.last {
		told++ // what may come tells which of them is first
	}
	var closer []proposal
	for _, one := range out[:told] {
		closer = append(closer, *one.of)
	}
	first, err := f.tried(ctx, closer, false)
	if err != nil {
		return nil, 0, err
	}
	return append(first, out[told:]...), untried, nil
}

// tried makes some edits on copies, and gives those that do what is wanted, in order; listed leaves out what may come.
func (f *fixer) tried(ctx context.Context, edits []proposal, listed bool) (out []Fix, err error) {
	for i := range edits {
		p := &edits[i]
		effect, err := Of(ctx, f.estate, f.edited(p), How{Since: f.since, Gate: f.gate, Few: fewForFixes, Listed: listed})
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if err != nil {
			continue // its conditions would be too complex
		}
		if effect.only != nil && !effect.only[f.req.Subject] || !effect.concerns(f.resource) {
			continue // nothing changes for the one who asks, or there
		}
		edited, again := effect.Gates.New, f.req
		again.Context = edited.For(f.req.Context, f.gate)
		if outcome, err := edited.Decide(again); err != nil || outcome != f.want {
			continue
		}
		one := p.does(effect, f.req)
		if listed {
			one.Effect = nil
		}
		// after those that are as good
		at, _ := slices.BinarySearchFunc(out, one, func(a, b Fix) int { return cmp.Or(a.compare(&b), -1) })
		if out = slices.Insert(out, at, one); len(out) > f.keep {
			out[f.keep].Effect = nil
		}
	}
	return out, nil
}

// does tells what an edit does that was tried.
func (p *proposal) does(effect *Effect, req gate.Request) Fix {
	one := Fix{Kind: p.kind, Commands: p.commands, Effect: effect, Beside: beside(effect, req), of: p,
		Gives: !slices.ContainsFunc(effect.Lines, func(l Line) bool { return !l.Way.More() }),
		Takes: !slices.ContainsFunc(effect.Lines, func(l Line) bool { return l.Way.More() })}
	one.Weight, one.coming = weight(effect, func(l *Line) int { return len(l.Subjects) })
	if p.shared {
		there, coming := weight(effect, func(l *Line) int {
			if slices.Contains(l.Subjects, req.Subject) {
				return 1
			}
			return 0
		})
		one.Weight, one.coming = one.Weight+there, one.coming+coming
	}
	return one
}

// compare puts the fix first that does less beside.
func (f *Fix) compare(other *Fix) int {
	if f.of.last != other.of.last {
		if f.of.last {
			return 1
		}
		return -1
	}
	return cmp.Or(cmp.Compare(f.Weight, other.Weight), cmp.Compare(f.coming, other.coming),
		cmp.Compare(len(f.Commands), len(other.Commands)))
}

// weight counts what changes of what is there and of what may come, for so many subjects of each line.
func weight(e *Effect, subjects func(*Line) int) (there, coming int) {
	for i := range e.Lines {
		l, places := &e.Lines[i], 0
		for pile := range l.Piles.All() {
			places += pile.Len()
		}
		there += subjects(l) * len(l.Operations) * places
	}
	for i := range e.Coming {
		coming += subjects(&e.Coming[i]) * len(e.Coming[i].Operations)
	}
	return there, coming
}

type fixer struct {
	estate   *estate.Estate
	gate     *gate.Gate
	req      gate.Request
	resource *estate.Resource // there
	since    clock.Instant
	want     gate.Outcome // of the request, by an edit
	quote    func(string) string
	keep     int // of so many the effect is kept
	found    []proposal
	proposed map[string]bool // by their commands
	broad    *breadths
}

// edited gives the estate in which a proposal is made.
func (f *fixer) edited(p *proposal) *estate.Estate {
	if p.made != nil {
		return p.made
	}
	return f.estate.With(p.edits...)
}

func (f *fixer) add(one proposal) {
	if key := strings.Join(one.commands, "\n"); !f.proposed[key] {
		f.proposed[key] = true
		f.found = append(f.found, one)
	}
}

// command writes an edit; words that a shell would take apart are quoted.
func (f *fixer) command(words ...string) string {
	for i, w := range words {
		words[i] = f.quote(w)
	}
	return "hgate " + strings.Join(words, " ")
}

func (f *fixer) who() string { return f.req.Subject.String() }

// here is the resource of the request as a term of a list.
func (f *fixer) here() estate.ResourceTerm {
	t, _ := estate.ParseResourceTerm(f.req.Resource)
	return t
}

// notHere takes it out of one.
func (f *fixer) notHere() estate.ResourceTerm {
	t := f.here()
	t.Not = true
	return t
}

// allow proposes edits for what the nearest grants lack, and a grant of its own.
func (f *fixer) allow() error {
	near, err := survey.Nearest(f.gate, f.req)
	if err != nil {
		return err
	}
	for _, n := range near {
		switch gr := n.Grant; n.Lacks {
		case "membership":
			f.join(gr)
		case "scope":
			f.widen(gr)
		case "operation":
			for _, ref := range gr.Roles {
				r := *f.estate.Roles[ref.ID]
				r.Allow = append(slices.Clone(r.Allow), estate.OperationTerm{Kind: estate.ByName, Name: f.req.Operation})
				f.add(proposal{kind: "role", edits: []estate.Edit{estate.Put("roles", &r)}, shared: true,
					breadth:  func() int { return f.broad.operation(r.ID) },
					commands: []string{f.command("set", "role", r.ID, "--allow", "+"+f.req.Operation)}})
			}
		case "condition":
			one := *gr
			one.When = nil
			f.add(proposal{kind: "condition", edits: []estate.Edit{estate.Put("grants", &one)}, shared: true, last: true,
				breadth:  func() int { return f.gate.CountMembers(gr.To) * f.broad.grant(gr) },
				commands: []string{f.command("set", "grant", gr.ID, "--when", "")}})
		}
	}
	f.give()
	return f.unblock()
}

// unblock takes the subject, the resource or the operation out of every block that meets the request, or the blocks
// away.
func (f *fixer) unblock() error {
	why, err := f.gate.Explain(f.req)
	if err != nil {
		return err
	}
	var blocks []*estate.Block
	for _, c := range why.Blocks {
		if c.Met {
			blocks = append(blocks, c.Block)
		}
	}
	if len(blocks) == 0 {
		return nil
	}
	for _, w := range []struct {
		kind string
		edit func(*estate.Block) string
	}{{"block", f.spare}, {"scope", f.clear}, {"operation", f.permit}} {
		var commands []string
		var edits []estate.Edit
		for _, b := range blocks {
			one := *b
			commands, edits = append(commands, w.edit(&one)), append(edits, estate.Put("blocks", &one))
		}
		if !slices.Contains(commands, "") {
			f.add(proposal{kind: w.kind, edits: edits, shared: true, commands: commands})
		}
	}
	if slices.ContainsFunc(blocks, func(b *estate.Block) bool { return b.Protected }) {
		return nil // what is protected is not removed
	}
	var commands []string
	var edits []estate.Edit
	for _, b := range blocks {
		commands = append(commands, f.command("remove", "block", b.ID))
		edits = append(edits, estate.Drop("blocks", b.ID))
	}
	f.add(proposal{kind: "block", edits: edits, shared: true, last: true, commands: commands})
	return nil
}

// permit takes the operation out of what a block denies; "" if it denies nothing else.
func (f *fixer) permit(b *estate.Block) string {
	if !slices.ContainsFunc(b.Deny,
		func(t estate.OperationTerm) bool { return t.Kind != estate.ByName || t.Name != f.req.Operation }) {
		return ""
	}
	b.Deny = append(slices.Clone(b.Deny), estate.OperationTerm{Not: true, Kind: estate.ByName, Name: f.req.Operation})
	return f.command("set", "block", b.ID, "--deny", "+not "+f.req.Operation)
}

// spare takes the subject out of whom a block stops.
func (f *fixer) spare(b *estate.Block) string {
	not := "not " + f.who()
	value := "+" + not
	if b.To[0].Position == b.Source.Position { // the file does not say whom, so a list with `not` alone would be left
		value = "everyone,anonymous," + not
	}
	b.To = append(slices.Clone(b.To), estate.SubjectTerm{Principal: f.req.Subject, Not: true})
	return f.command("set", "block", b.ID, "--to", value)
}

// clear takes the resource out of where a block holds.
func (f *fixer) clear(b *estate.Block) string {
	b.On = append(slices.Clone(b.On), f.notHere())
	return f.command("set", "block", b.ID, "--on", "+not "+f.req.Resource)
}

// join puts the subject into a group that a grant goes to, or names it in the grant.
func (f *fixer) join(gr *estate.Grant) {
	groups := 0
	for _, t := range gr.To {
		if t.Not || t.Kind != estate.IsGroup {
			continue
		}
		groups++
		group := *f.estate.Groups[t.ID]
		group.Members = append(slices.Clone(group.Members), estate.SubjectTerm{Principal: f.req.Subject})
		f.add(proposal{kind: "membership", edits: []estate.Edit{estate.Put("groups", &group)},
			breadth:  func() int { return f.broad.group(group.ID) },
			commands: []string{f.command("set", "group", t.ID, "--members", "+"+f.who())}})
	}
	if groups == 0 {
		one := *gr
		one.To = append(slices.Clone(gr.To), estate.SubjectTerm{Principal: f.req.Subject})
		f.add(proposal{kind: "grant", edits: []estate.Edit{estate.Put("grants", &one)},
			breadth:  func() int { return f.broad.grant(gr) },
			commands: []string{f.command("set", "grant", gr.ID, "--to", "+"+f.who())}})
	}
}

// widen adds the resource to a grant, or to the scope that it names.
func (f *fixer) widen(gr *estate.Grant) {
	one := *gr
	one.On = append(slices.Clone(gr.On), f.here())
	f.add(proposal{kind: "scope", edits: []estate.Edit{estate.Put("grants", &one)}, shared: true,
		breadth:  func() int { return f.broad.place(gr) },
		commands: []string{f.command("set", "grant", gr.ID, "--on", "+"+f.req.Resource)}})
	for _, t := range gr.On {
		if t.Scope == "" || t.Not {
			continue
		}
		s := *f.estate.Scopes[t.Scope]
		s.Resources = append(slices.Clone(s.Resources), f.here())
		f.add(proposal{kind: "scope", edits: []estate.Edit{estate.Put("scopes", &s)}, shared: true,
			breadth:  func() int { return f.broad.scope(s.ID) },
			commands: []string{f.command("set", "scope", t.Scope, "--resources", "+"+f.req.Resource)}})
	}
}

// give grants the smallest role that has the operation, and a new one that has nothing else but what it needs.
func (f *fixer) give() {
	best, size := "", 0
	for _, r := range estate.Sorted(f.estate.Roles) {
		if n := len(f.gate.RoleOperations(r.ID)); f.gate.RoleHas(r.ID, f.req.Operation) && (best == "" || n < size) {
			best, size = r.ID, n
		}
	}
	id := f.fresh("grants")
	grant := func(role string) (*estate.Grant, string) {
		return &estate.Grant{
			Object: estate.Object{ID: id}, To: estate.Subjects{{Principal: f.req.Subject}}, Roles: []estate.Ref{{ID: role}},
			On: estate.Resources{f.here()},
		}, f.command("add", "grant", id, "--to", f.who(), "--role", role, "--on", f.req.Resource)
	}
	if best != "" {
		gr, command := grant(best)
		f.add(proposal{kind: "grant", edits: []estate.Edit{estate.Put("grants", gr)}, commands: []string{command}})
	}
	names := append([]string{f.req.Operation}, f.estate.Operations[f.req.Operation].Needs...)
	if size == len(names) {
		return // there is such a role
	}
	role := &estate.Role{Object: estate.Object{ID: f.fresh("roles")}}
	for _, name := range names {
		role.Allow = append(role.Allow, estate.OperationTerm{Kind: estate.ByName, Name: name})
	}
	gr, command := grant(role.ID)
	f.add(proposal{kind: "new role", edits: []estate.Edit{estate.Put("roles", role), estate.Put("grants", gr)},
		commands: []string{f.command("add", "role", role.ID, "--allow", strings.Join(names, ",")), command}})
}

// fresh makes up an id that is free.
func (f *fixer) fresh(section string) string {
	who := f.req.Subject.ID
	if f.req.Subject.Kind == estate.IsAnonymous {
		who = "anonymous"
	}
	id := strings.NewReplacer(":", "-", "/", "-", ".", "-").Replace(who + "-" + f.req.Operation)
	for n := 2; ; n++ {
		one := id
		if n > 2 {
			one += fmt.Sprintf("-%d", n-1)
		}
		for len(one) > estate.MaxID {
			_, size := utf8.DecodeRuneInString(one)
			one = one[size:]
		}
		if one = strings.TrimLeft(one, "-._@"); f.estate.Head(section, one) == nil {
			return one
		}
	}
}

// stop proposes edits that take away every grant that gives the request, each in one way, and a block.
func (f *fixer) stop() error {
	why, err := f.gate.Explain(f.req)
	if err != nil {
		return err
	}
	type way struct {
		kind string
		edit func(e *fixer, gr *estate.Grant) (*estate.Estate, string)
	}
	for _, w := range []way{{"membership", (*fixer).leave}, {"grant", (*fixer).except}, {"scope", (*fixer).narrow},
		{"grant", (*fixer).remove}} {
		on := *f // the edits of one proposal add up
		var commands []string
		for _, c := range why.Grants {
			if !c.Met {
				continue
			}
			edited, command := w.edit(&on, on.estate.Grants[c.Grant.ID])
			if edited == nil {
				commands = nil
				break
			}
			on.estate = edited
			if !slices.Contains(commands, command) {
				commands = append(commands, command)
			}
		}
		if len(commands) > 0 {
			f.add(proposal{kind: w.kind, made: on.estate, commands: commands})
		}
	}
	id := f.fresh("blocks")
	block := &estate.Block{
		Object: estate.Object{ID: id},
		To:     estate.Subjects{{Principal: f.req.Subject}},
		Deny:   estate.Operations{{Kind: estate.ByName, Name: f.req.Operation}},
		On:     estate.Resources{f.here()},
	}
	f.add(proposal{kind: "block", edits: []estate.Edit{estate.Put("blocks", block)},
		commands: []string{f.command("add", "block", id, "--to", f.who(), "--deny", f.req.Operation, "--on",
			f.req.Resource)}})
	return nil
}

// leave takes the subject out of the one group that a grant goes to and lists it.
func (f *fixer) leave(gr *estate.Grant) (*estate.Estate, string) {
	for _, t := range gr.To {
		if t.Not || t.Kind != estate.IsGroup {
			continue
		}
		group := *f.estate.Groups[t.ID]
		listed := slices.DeleteFunc(slices.Clone(group.Members),
			func(m estate.SubjectTerm) bool { return !m.Not && m.Principal == f.req.Subject })
		if len(listed) == len(group.Members) || group.Match == nil && len(listed) > 0 &&
			!slices.ContainsFunc(listed, func(m estate.SubjectTerm) bool { return !m.Not }) {
			continue // or `not` entries alone would be left, which no file may have
		}
		group.Members = listed
		return f.with("groups", &group), f.command("set", "group", t.ID, "--members", "-"+f.who())
	}
	return nil, ""
}

// except takes the subject out of whom a grant goes to.
func (f *fixer) except(gr *estate.Grant) (*estate.Estate, string) {
	one := *gr
	one.To = append(slices.Clone(gr.To), estate.SubjectTerm{Principal: f.req.Subject, Not: true})
	return f.with("grants", &one), f.command("set", "grant", gr.ID, "--to", "+not "+f.who())
}

// narrow takes the resource out of where a grant holds.
func (f *fixer) narrow(gr *estate.Grant) (*estate.Estate, string) {
	one := *gr
	one.On = append(slices.Clone(gr.On), f.notHere())
	return f.with("grants", &one), f.command("set", "grant", gr.ID, "--on", "+not "+f.req.Resource)
}

func (f *fixer) remove(gr *estate.Grant) (*estate.Estate, string) {
	if gr.Protected {
		return nil, ""
	}
	return Without(f.estate, "grants", gr.ID), f.command("remove", "grant", gr.ID)
}

// with gives the estate with an entry in place of the one that has its id.
func (f *fixer) with(section string, entry estate.Head) *estate.Estate {
	return f.estate.With(estate.Put(section, entry))
}
