package gate_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/draft"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/splice"
)

// node reads a value as a file would have it.
func node(t *testing.T, text string) *yaml.Node {
	n, err := splice.Value(text)
	require.NoError(t, err, text)
	return n
}

// drawnEdit changes a draft somehow, and tells which entries that concerns: "" for any that names what it is about.
func drawnEdit(t *testing.T, d draw, e *estate.Estate, w *draft.Draft) (what string, entries []string, err error) {
	grants, people := ids2(e.Grants), drawnPeople
	grant, person, group, role := d.one(grants...), d.one(people...), d.one(drawnGroups...), d.one(drawnRoles...)
	scope := d.one("s0", "s1", "s2")
	switch d.IntN(22) {
	case 0:
		body := fmt.Sprintf("{to: %s, roles: %s, on: %s%s}", d.subjects(4, false), d.some(1, 2, drawnRoles...), d.places(3),
			d.when(50))
		return "add grant", []string{"grants fresh"}, w.Add("grants", "fresh", node(t, body), "")
	case 1:
		return "add person", []string{"people eve"}, w.Add("people", "eve", node(t, "{tags: "+d.tags()+"}"), "")
	case 2:
		return "remove grant " + grant, []string{"grants " + grant}, w.Remove("grants", grant)
	case 3:
		return "status of " + person, []string{"people " + person},
			w.Set("people", person, "status", node(t, d.one("left", "active")))
	case 4:
		return "tags of " + person, []string{"people " + person}, w.Set("people", person, "tags", node(t, d.tags()))
	case 5:
		return "when of " + grant, []string{"grants " + grant}, w.Set("grants", grant, "when", node(t, d.condition(2)))
	case 6:
		return "no when of " + grant, []string{"grants " + grant}, w.Set("grants", grant, "when", nil)
	case 7:
		return "one more to " + grant, []string{"grants " + grant},
			w.Change("grants", grant, "to", draft.Items{
				Add: []*yaml.Node{splice.Scalar(d.one("service:bot", "not dee", "group:g2"))}})
	case 8:
		item := d.one(terms(e.Groups[group].Members)...)
		return "one less in " + group, []string{"groups " + group},
			w.Change("groups", group, "members", draft.Items{Drop: []*yaml.Node{splice.Scalar(item)}})
	case 9:
		return "allow of " + role, []string{"roles " + role}, w.Set("roles", role, "allow", node(t, d.operations()))
	case 10:
		return "on of " + grant, []string{"grants " + grant}, w.Set("grants", grant, "on", node(t, d.places(3)))
	case 11:
		return "scope " + scope, []string{"scopes " + scope}, w.Set("scopes", scope, "resources", node(t, d.places(0)))
	case 12:
		r := e.Tree.At(d.IntN(e.Tree.Len()))
		if e.Tree.Entry(r.Index) == nil || r.Parent == nil {
			return "", nil, nil
		}
		return "owner of " + r.Address.String(), []string{"systems " + r.System.ID},
			w.Set("resources", r.Address.String(), "owner", splice.Scalar(d.one("ana", "cai", "group:g1")))
	case 13:
		r := e.Tree.At(d.IntN(e.Tree.Len()))
		if e.Tree.Entry(r.Index) == nil || r.Parent == nil {
			return "", nil, nil
		}
		return "tags of " + r.Address.String(), []string{"systems " + r.System.ID},
			w.Set("resources", r.Address.String(), "tags", node(t, d.tags()))
	case 14:
		r := e.Tree.At(d.IntN(e.Tree.Len()))
		address := r.Address.String() + "/"
		if r.Parent == nil {
			address = r.System.ID + ":"
		}
		address += d.one("a", "zz", "a1", "b/c")
		return "add " + address, []string{"systems " + r.System.ID},
			w.Add("resources", address, node(t, d.one("{}", "{tags: "+d.tags()+"}", "{owner: cai}")), "")
	case 15:
		r := e.Tree.At(d.IntN(e.Tree.Len()))
		if e.Tree.Entry(r.Index) == nil || r.Parent == nil {
			return "", nil, nil
		}
		return "less " + r.Address.String(), []string{"systems " + r.System.ID}, w.Remove("resources", r.Address.String())
	case 17:
		id := d.one("crate", "aa", "dbm", "zz")
		body := fmt.Sprintf("{kind: %s, unlisted: %s, tags: %s, resources: {%s}}", d.one("database", "application", "folded"),
			d.one("judge", "refuse"), d.tags(), d.one("", "a/b: {}", "a: {owner: cai}"))
		return "add system " + id, []string{"systems " + id}, w.Add("systems", id, node(t, body), "")
	case 18:
		id := d.one(ids2(e.Systems)...)
		if mentions, err := w.Mentions("systems", id); len(mentions) > 0 {
			return "", nil, err
		}
		return "less of systems, by " + id, []string{"systems " + id}, w.Remove("systems", id)
	case 16:
		id := d.one(ids2(e.Systems)...)
		return "system " + id, []string{"systems " + id},
			w.Set("systems", id, d.one("title", "unlisted"), splice.Scalar(d.one("judge", "refuse")))
	case 20:
		return "add scope", []string{"scopes fresh"}, w.Add("scopes", "fresh", node(t, d.places(3)), "")
	case 21:
		if len(e.Separations) > 0 {
			return "separation apart", []string{"separations apart"},
				w.Set("separations", "apart", "within", splice.Scalar(d.one("person", "session")))
		}
		body := fmt.Sprintf("{roles: %s, within: %s}", d.some(2, 3, drawnRoles...), d.one("person", "session"))
		return "add separation " + body, []string{"separations fresh"}, w.Add("separations", "fresh", node(t, body), "")
	default:
		section, id := "groups", group
		if d.chance(50) {
			section, id = "people", person
		}
		mentions, err := w.Mentions(section, id)
		require.NoError(t, err)
		_, err = w.RemoveWith(section, id, mentions)
		return "remove " + id + " with all that names it", nil, err
	}
}

func ids2[T any](section map[string]T) []string {
	var out []string
	for id := range section {
		out = append(out, id)
	}
	slices.Sort(out)
	return out
}

func terms(list estate.Subjects) []string {
	out := []string{"nobody"}
	for _, t := range list {
		out = append(out, t.String())
	}
	return out
}

func TestEffectsOfEditsAreWhatTheOracleSays(t *testing.T) {
	counts := map[string]int{}
	for seed := range uint64(scaled(50)) {
		d := newDraw(seed)
		text := d.estate()
		settings, policy, _ := strings.Cut(text, "people:\n")
		policy = "people:\n" + policy
		files := fstest.MapFS{"hidden-gate.yaml": {Data: []byte(settings)}, "policy.yaml": {Data: []byte(policy)}}
		before, err := policyfile.Load(files)
		require.NoError(t, err)
		w := draft.New(files, before)
		what, entries, err := drawnEdit(t, d, before, w)
		if err != nil || what == "" {
			counts["refused"]++
			continue
		}
		if d.chance(40) {
			if other, _, err := drawnEdit(t, d, before, w); err == nil && other != "" {
				what, entries = what+" and "+other, nil
			}
		}
		changes, err := w.Changes()
		require.NoError(t, err)
		if len(changes) == 0 {
			counts["nothing"]++
			continue
		}
		var edited string
		var names []string
		for _, x := range changes {
			edited += string(x.New)
			names = append(names, x.Name)
		}
		if len(changes) == 1 {
			onlyThese(t, seed, what, before, string(changes[0].Old), edited, entries)
		}
		after, err := policyfile.Reload(files, w.FS(), before, names)
		if err != nil {
			// Only what the edit said itself may be wrong.
			if !strings.Contains(what, " and ") {
				require.NotContains(t, what, "remove", "seed %d: %s\n%s\n%s", seed, err, text, edited)
			}
			counts["unsound"]++
			continue
		}
		carriedAgrees(t, seed, before, after, counts)
		effectAgrees(t, d, seed, before, after, counts)
		if t.Failed() {
			t.Logf("%s\n%s\nbecame\n%s", what, text, edited)
			return
		}
	}
	t.Log(counts)
	require.Greater(t, counts["changed"], 20)
	require.Greater(t, counts["same"], 20)
	require.Greater(t, counts["causes"], 5)
	require.Positive(t, counts["carried"])
}

// carriedAgrees sees that a gate that takes over what the one before an edit knows answers as one that is made anew,
// and can be kept.
func carriedAgrees(t *testing.T, seed uint64, before, after *estate.Estate, counts map[string]int) {
	known := compiled(t, before)
	if after.PlacesAs(before) {
		counts["carried"]++
	}
	carried, err := gate.Carried(after, known)
	require.NoError(t, err)
	answerAlike(t, seed+48e6, compiled(t, after), carried, keptAndTaken(t, carried))
	if change.AsksTheSame(before, after) {
		counts["retold"]++
		kept, err := change.GateToKeep(after, known)
		require.NoError(t, err)
		require.Same(t, known.Places, kept.Places, "nothing is made anew")
		answerAlike(t, seed+48e6, compiled(t, after), keptAndTaken(t, kept))
	}
}

// Where an edit says nothing otherwise that a gate asks about, the gate before it can be kept for the estate after it.
func TestAGateIsKeptWhereAnEditAsksTheSame(t *testing.T) {
	counts := map[string]int{}
	for seed := range uint64(scaled(30)) {
		e := load(t, newDraw(seed+83e6).estate())
		var edits []estate.Edit
		for id, was := range e.Groups {
			is := *was
			is.Title, is.Owner = "Another "+id, &estate.Principal{Kind: estate.IsEveryone}
			edits = append(edits, estate.Put("groups", &is))
		}
		for id, was := range e.Grants {
			is := *was
			is.Why, is.Accept = "for "+id, []estate.Acceptance{{Finding: "direct-grant"}}
			edits = append(edits, estate.Put("grants", &is))
		}
		after := e.With(edits...)
		require.True(t, change.AsksTheSame(e, after))
		carriedAgrees(t, seed, e, after, counts)
		for id, was := range e.Roles {
			is := *was
			is.AtMost++
			require.False(t, change.AsksTheSame(e, after.With(estate.Put("roles", &is))), id)
		}
		for id := range e.Grants {
			require.False(t, change.AsksTheSame(e, after.With(estate.Drop("grants", id))))
		}
	}
	require.Equal(t, scaled(30), counts["retold"])
}

// answerAlike sees that gates of one estate answer as the first does.
func answerAlike(t *testing.T, seed uint64, first *gate.Gate, others ...*gate.Gate) {
	for _, q := range questions(newDraw(seed), first.Estate(), 60) {
		decide := func(g *gate.Gate) (gate.Outcome, error) {
			return g.Decide(gate.Request{Subject: q.who, Operation: q.operation, Resource: q.where.String(),
				Context: q.request.context(g)})
		}
		want, bad := decide(first)
		for _, g := range others {
			got, err := decide(g)
			require.Equal(t, bad == nil, err == nil)
			require.Equal(t, want, got, "seed %d: %s %s %s", seed, q.who, q.operation, q.where)
		}
	}
}

// causesAgree sees that whoever takes the causes of a change back takes the change back.
func causesAgree(t *testing.T, seed uint64, effect *change.Effect, since clock.Instant, counts map[string]int) {
	left := 12
	effect.Rows(func(r change.Row) {
		if left--; left < 0 || r.Line.OnRequest {
			return
		}
		about := fmt.Sprintf("seed %d: %s %s %s", seed, r.Subject, r.Operation, r.Resource)
		causes := effect.CausesOf(r)
		require.NotEmpty(t, causes, about)
		for _, c := range causes {
			require.Contains(t, effect.Causes(r.Line), c, about)
		}
		back, ok := undone(effect, causes)
		if !ok {
			return // inventories are not put back here
		}
		counts["causes"]++
		g, err := gate.Compile(back, nil)
		require.NoError(t, err, about)
		x, ok := witnessOf(effect.Gates.Space(), [2]differing.Cell{r.Line.Old, r.Line.New}, since)
		require.True(t, ok, about)
		zone, err := time.LoadLocation(effect.Before.Zone.Name())
		require.NoError(t, err)
		name := cellName{r.Subject, r.Operation, r.Resource}
		was := oracle{e: effect.Before, zone: zone}
		now := oracle{e: g.Estate(), zone: zone}
		require.Equal(t, was.judgeCell(name, x), now.judgeCell(name, x), "%s, without %v", about, causes)
	})
}

// undone is the new estate with some entries as they were.
func undone(effect *change.Effect, causes []change.Cause) (*estate.Estate, bool) {
	var edits []estate.Edit
	for _, c := range causes {
		one, id, _ := strings.Cut(c.What, " ")
		section := map[string]string{"person": "people"}[one]
		if section == "" {
			section = one + "s"
		}
		if section == "systems" || section == "resources" {
			return nil, false
		}
		if was := effect.Before.Entry(section, id); was != nil {
			edits = append(edits, estate.Put(section, was))
		} else {
			edits = append(edits, estate.Drop(section, id))
		}
	}
	back, sound := effect.After.With(edits...), true
	for _, section := range []string{"grants", "blocks", "groups", "roles", "scopes"} {
		back.Each(section, func(o *estate.Object) { // what names an entry that is gone is not put back by itself
			policyfile.EachName(section, back.Entry(section, o.ID), func(_ string, n policyfile.Name) {
				named := []string{"people", "services", "groups", "roles", "scopes"}
				sound = sound && (!slices.Contains(named, n.Section) || back.Entry(n.Section, n.ID) != nil)
			})
		})
	}
	return back, sound
}

// onlyThese sees that lines outside of entries are as they were.
func onlyThese(t *testing.T, seed uint64, what string, e *estate.Estate, text, edited string, entries []string) {
	if entries == nil {
		return
	}
	section, id, _ := strings.Cut(entries[0], " ")
	if o := e.Head(section, id); o != nil {
		head, tail := o.Source.Start, o.Source.End
		head = strings.LastIndex(text[:head], "\n") + 1
		if i := strings.Index(text[tail:], "\n"); i >= 0 {
			tail += i + 1
		}
		require.True(t, strings.HasPrefix(edited, text[:head]), "seed %d: %s changed what stands before:\n%s\n%s", seed, what,
			text, edited)
		require.True(t, strings.HasSuffix(edited, text[tail:]), "seed %d: %s changed what stands behind:\n%s\n%s", seed, what,
			text, edited)
		return
	}
	// A new entry: all lines are there still, and in order.
	rest := strings.Split(edited, "\n")
	for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		i := slices.Index(rest, line)
		require.GreaterOrEqual(t, i, 0, "seed %d: %s lost the line %q", seed, what, line)
		rest = rest[i+1:]
	}
}

func effectAgrees(t *testing.T, d draw, seed uint64, before, after *estate.Estate, counts map[string]int) {
	since, err := after.Zone.ParseTime(d.one(drawnTimes[:3]...))
	require.NoError(t, err)
	how := change.How{Since: since}
	if seed%2 == 0 { // as in a large estate, in which only those are looked at who can be concerned
		how.Few = -1
	}
	if d.chance(50) {
		how.Gate, err = gate.Compile(before, nil)
		require.NoError(t, err)
	}
	effect, err := change.Of(t.Context(), before, after, how)
	require.NoError(t, err)
	found := map[cellName][2]differing.Cell{}
	for i := range effect.Lines {
		l := &effect.Lines[i]
		if l.OnRequest {
			continue // nothing is lent; that these are told is tested elsewhere
		}
		named := map[string]bool{}
		for p := range l.Piles.All() {
			for address := range p.Addresses() {
				named[address] = true
				for _, who := range l.Subjects {
					for _, op := range l.Operations {
						if validIn(before, after, op, address) {
							found[cellName{who, op, address}] = [2]differing.Cell{l.Old, l.New}
						}
					}
				}
			}
		}
		of := after
		if l.Way == change.Loses {
			of = before
		}
		requirePlaces(t, seed, of, l.Operations, effect.Places(l), named)
	}
	zone, err := time.LoadLocation(after.Zone.Name())
	require.NoError(t, err)
	oracles := [2]*oracle{{e: before, zone: zone}, {e: after, zone: zone}}
	for name := range cellNames(before, after) {
		cell, differs := found[name]
		delete(found, name)
		if differs {
			counts["changed"]++
			x, ok := witnessOf(effect.Gates.Space(), cell, since)
			require.True(t, ok, "seed %d: %v: nothing changes", seed, name)
			require.NotEqual(t, oracles[0].judgeCell(name, x), oracles[1].judgeCell(name, x), "seed %d: %v at %+v", seed, name,
				x)
			continue
		}
		if !d.chance(4) {
			continue
		}
		counts["same"]++
		for range 6 {
			x := concrete{at: int64(since) + int64(d.IntN(1e9))*1e6, from: addresses()[d.IntN(3)], mfa: d.chance(50),
				reason: d.chance(50), ticket: d.chance(50), signIn: d.one(estate.SignIns...), ago: drawnAgo[d.IntN(len(drawnAgo))],
				attrs: map[string]string{"device": d.one("managed", "own")}}
			require.Equal(t, oracles[0].judgeCell(name, x), oracles[1].judgeCell(name, x), "seed %d: %v is not told, at %+v",
				seed, name, x)
		}
	}
	require.Empty(t, found, "seed %d: these are no cells", seed)
	causesAgree(t, seed, effect, since, counts)
}

func validIn(before, after *estate.Estate, op, address string) bool {
	for _, e := range []*estate.Estate{before, after} {
		if r := placeIn(e, address); r != nil && e.Offer(r.System.Kind.ID).Valid(op, r.Type) != nil {
			return true
		}
	}
	return false
}

// requirePlaces sees that the places that are told are just the resources that are meant.
func requirePlaces(t *testing.T, seed uint64, e *estate.Estate, operations, places []string, named map[string]bool) {
	told := map[string]bool{}
	add := func(top string, itself bool, not []string) {
		for r := range e.Tree.All() {
			a := r.Address.String()
			in := a == top || !itself && (strings.HasPrefix(a, top+"/") || strings.HasPrefix(a, top+":"))
			applies := slices.ContainsFunc(operations,
				func(op string) bool { return e.Offer(r.System.Kind.ID).Valid(op, r.Type) != nil })
			if (in || top == change.EverythingListed) && applies && !slices.Contains(not, a) {
				told[a] = true
			}
		}
		if e.Listed(mustAddress(top)) == nil && top != change.EverythingListed {
			told[top] = true
		}
	}
	for _, p := range places {
		inside := strings.HasPrefix(p, "what is inside ")
		p = strings.TrimPrefix(p, "what is inside ")
		if top, ok := strings.CutSuffix(p, " itself"); ok {
			add(top, true, nil)
		} else if inside {
			top, rest, _ := strings.Cut(strings.TrimSuffix(p, ")"), " (but not ")
			add(top, false, append(strings.Split(rest, ", "), top))
		} else if top, rest, ok := strings.Cut(p, " (but not "); ok {
			add(top, false, strings.Split(strings.TrimSuffix(rest, ")"), ", "))
		} else {
			add(p, false, nil)
		}
	}
	require.Equal(t, named, told, "seed %d: %v, told as %v", seed, operations, places)
}

func mustAddress(text string) estate.Address {
	a, _ := estate.ParseAddress(text)
	return a
}
