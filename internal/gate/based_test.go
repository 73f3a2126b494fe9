package gate_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/placemap"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/region"
)

// What may be done is told the same, whether places are told apart anew or as in a gate that is at hand; which
// resources the choice of a list leaves is held against the list itself.
func TestCellsAreTheSameByAGateAtHand(t *testing.T) {
	told := 0
	for seed := range uint64(scaled(60)) {
		d := newDraw(seed + 41e6)
		e := load(t, d.estate())
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		some := e.Tree.At(d.IntN(e.Tree.Len()))
		on := estate.Resources{[]estate.ResourceTerm{
			term(t, d.one("everything", "scope:s0", "*:*", e.Tree.Address(0)+":**")), {In: plain(t, some.Address.String())},
			{Types: []string{some.Type}}, {Tags: []estate.Match{{Key: "team", Values: []string{"x"}}}},
			{Owners: []estate.Principal{{Kind: estate.IsGroup, ID: "g0"}}},
		}[d.IntN(5)]}
		only := map[estate.Principal]bool{{ID: "ana"}: true, {ID: "cai"}: true}
		scene := differing.Scene{Which: gate.Counting(d.IntN(3)), Places: []estate.Resources{on}}
		if d.chance(50) {
			scene.Only = only
		}
		var all [2]map[string]bool
		for k, base := range []*gate.Gate{nil, g} {
			scene.Base = base
			cells, err := differing.CompileCells(e, scene)
			require.NoError(t, err)
			cells.Choose(nil, on)
			all[k] = map[string]bool{}
			texts := map[region.Region]string{}
			require.NoError(t, cells.Each(t.Context(), clock.Beginning, func(a differing.Access) bool {
				if texts[a.Possible] == "" {
					texts[a.Possible] = cells.Space().Text(a.Possible, 3)
				}
				for pile := range a.Piles.All() {
					for address := range pile.Addresses() {
						if r := e.Listed(mustAddress(address)); r != nil {
							require.True(t, g.Covers(on, r), "seed %d: %s in %s", seed, address, on)
						}
						for _, who := range a.Subjects {
							all[k][fmt.Sprint(who, a.Operation, address, texts[a.Possible])] = true
						}
					}
				}
				return true
			}))
			told += len(all[k])
		}
		require.Equal(t, all[0], all[1], "seed %d: on %s", seed, on)
	}
	require.Greater(t, told, 1000)
}

func plain(t *testing.T, address string) *estate.Pattern {
	out, err := estate.ParsePattern(address)
	require.NoError(t, err)
	return &out
}

func term(t *testing.T, text string) estate.ResourceTerm {
	out, err := estate.ParseResourceTerm(text)
	require.NoError(t, err)
	return out
}

// The grants that a giver names are those that an explanation says are met.
func TestAGiverNamesWhatAnExplanationNames(t *testing.T) {
	named := 0
	for seed := range uint64(scaled(40)) {
		d := newDraw(seed + 42e6)
		e := load(t, d.estate())
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		for _, q := range questions(d, e, 4) {
			ctx := q.request.context(g)
			giver := g.Giver(q.who, ctx)
			for row := range e.Tree.Len() {
				r := e.Tree.At(row)
				for _, o := range e.Offer(r.System.Kind.ID).On(r.Type) {
					ids, err := giver.On(row, o.Name)
					why, bad := g.Explain(gate.Request{Subject: q.who, Operation: o.Name,
						Resource: e.Tree.Address(row), Context: ctx})
					require.Equal(t, bad == nil, err == nil)
					if err == nil {
						require.Equal(t, gate.Met(why.Grants), ids, "seed %d: %s on %s", seed, o.Name, r.Address)
						named += len(ids)
					}
				}
			}
		}
	}
	require.NotZero(t, named)
}

// How many listed resources a pattern matches is counted as one by one.
func TestPatternsMatchAsManyAsOneByOne(t *testing.T) {
	found := 0
	for seed := range uint64(scaled(60)) {
		d := newDraw(seed + 43e6)
		e := load(t, d.estate())
		var patterns []estate.Pattern
		for _, text := range []string{"*:**", "db*:*", "*:*/*", "*:**/*", e.Tree.Address(d.IntN(e.Tree.Len())), "db*:**/a*",
			"*:**/a*", "*:**/*a", "*:**/a*"} {
			p, err := estate.ParsePattern(text)
			require.NoError(t, err)
			patterns = append(patterns, p)
		}
		for i, n := range placemap.Matched(e, patterns) {
			count := 0
			for r := range e.Tree.All() {
				if patterns[i].Matches(r.Address, e.Folds(r.System)) {
					count++
				}
			}
			require.Equal(t, count, n, "seed %d: %s", seed, patterns[i])
			found += n
		}
	}
	require.NotZero(t, found)
}

// told gives the rows of an effect about some subjects, with what held before and holds now.
func told(effect *change.Effect, about func(estate.Principal) bool) map[string]bool {
	out, texts := map[string]bool{}, map[*change.Line]string{}
	effect.Rows(func(r change.Row) {
		if !about(r.Subject) {
			return
		}
		if texts[r.Line] == "" {
			texts[r.Line] = r.Line.Was() + " " + r.Line.Is()
		}
		out[fmt.Sprint(r.Subject, r.Operation, r.Resource, texts[r.Line])] = true
	})
	return out
}

// Of the first subjects whom an edit concerns, the same is told as among all; how many more there are is counted.
func TestTheFirstSubjectsLoseWhatTheyLoseAmongAll(t *testing.T) {
	some := 0
	for seed := range uint64(scaled(60)) {
		d := newDraw(seed + 44e6)
		e := load(t, d.estate())
		ids := slices.Sorted(maps.Keys(e.Groups))
		after := change.Without(e, "groups", ids[d.IntN(len(ids))])
		part, err := change.Of(t.Context(), e, after, change.How{Most: 2})
		require.NoError(t, err)
		all, err := change.Of(t.Context(), e, after, change.How{})
		require.NoError(t, err)
		subjects := map[estate.Principal]bool{}
		rows := told(part, func(p estate.Principal) bool {
			subjects[p] = true
			return true
		})
		require.LessOrEqual(t, len(subjects), 2)
		want := told(all, func(p estate.Principal) bool { return subjects[p] || part.Beyond == 0 })
		require.Equal(t, want, rows, "seed %d", seed)
		if part.Beyond > 0 {
			some += len(rows)
			_, err := part.Consequences(t.Context(), 0)
			require.Error(t, err, "of some alone nothing is said to turn")
		}
	}
	require.NotZero(t, some)
}

// Whether two estates list the same is told as by comparing one resource after another.
func TestTreesListTheSameAsOneByOne(t *testing.T) {
	same := map[bool]int{}
	for seed := range uint64(scaled(60)) {
		d := newDraw(seed + 45e6)
		text := d.estate()
		was := load(t, text)
		for _, swap := range [][2]string{{}, {"env: prod", "env: x"}, {"owner: bo", "owner: group:g1"},
			{"owner: group:g0", "owner: bo"}, {"type: view", "type: schema"}, {"type: area", "type: widget"}} {
			edited := strings.Replace(text, swap[0], swap[1], 1)
			is, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(edited)}})
			if err != nil {
				continue
			}
			want := was.Tree.Len() == is.Tree.Len()
			for i := 0; want && i < is.Tree.Len(); i++ {
				a, b := was.Tree.At(i), is.Tree.At(i)
				owner := func(r *estate.Resource) string { return fmt.Sprint(r.Owner) }
				want = a.Address == b.Address && a.Type == b.Type && slices.Equal(a.Tags, b.Tags) &&
					(a.Owner == b.Owner || a.Owner != nil && b.Owner != nil && owner(a) == owner(b))
			}
			got := is.Tree.ListsAs(was.Tree, func(a, b *estate.Entry) bool { return true })
			require.Equal(t, want, got, "seed %d: %v", seed, swap)
			same[got]++
		}
	}
	require.NotZero(t, same[true])
	require.NotZero(t, same[false])
}

// An effect is the same, in the same words and order, by a gate that is at hand, be its lists of resources those of the
// edit or not.
func TestEffectsAreTheSameByAGateAtHand(t *testing.T) {
	some, part := 0, 0
	for seed := range uint64(scaled(40)) {
		d := newDraw(seed + 46e6)
		e := load(t, d.estate())
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		what, after := editedSomehow(t, d, e)
		few := d.IntN(2) - 1
		var rows [4]map[string]bool
		var order [4][]string
		for k, how := range []change.How{{}, {Gate: g}, {Beside: compiled(t, after)}, {Gate: g, Listed: true}} {
			how.Few = few
			effect, err := change.Of(t.Context(), e, after, how)
			require.NoError(t, err)
			if effect.Gates.Part {
				part++
			}
			rows[k] = told(effect, func(estate.Principal) bool { return true })
			for _, l := range slices.Concat(effect.Lines, effect.Coming) {
				order[k] = append(order[k], fmt.Sprint(l.Subjects, l.Operations, l.Was(), l.Is(), effect.Places(&l)))
			}
		}
		for k := 1; k < 3; k++ { // the last leaves out what may come
			require.True(t, slices.Equal(order[0], order[k]), "seed %d: %s, lines of effect %d", seed, what, k)
		}
		for _, other := range rows[1:] {
			require.Empty(t, apart(rows[0], other), "seed %d: %s", seed, what)
			require.Empty(t, apart(other, rows[0]), "seed %d: %s", seed, what)
		}
		some += len(rows[0])
	}
	require.Greater(t, some, 200)
	require.Greater(t, part, 5, "most are looked at where they can differ alone")
}

// Of ways in which something may come that are too many to tell, the same are told by a gate that is at hand.
func TestTheSamePartIsToldByAGateAtHand(t *testing.T) {
	e := uneven(t, 500)
	g, inPart := compiled(t, e), 0
	for _, id := range slices.Sorted(maps.Keys(e.People))[:10] {
		again := *e.People[id]
		again.ID = "again"
		edits := []estate.Edit{estate.Put("people", &again)}
		for _, group := range e.Groups {
			if group := *group; slices.ContainsFunc(group.Members,
				func(m estate.SubjectTerm) bool { return m.Principal == estate.Principal{ID: id} }) {
				group.Members = append(slices.Clone(group.Members),
					estate.SubjectTerm{Principal: estate.Principal{ID: "again"}})
				edits = append(edits, estate.Put("groups", &group))
			}
		}
		after := e.With(edits...)
		var told [2][]string
		for k, how := range []change.How{{}, {Gate: g}} {
			how.Few = -1
			effect, err := change.Of(t.Context(), e, after, how)
			require.NoError(t, err)
			if effect.ComingInPart {
				inPart++
			}
			for _, l := range slices.Concat(effect.Lines, effect.Coming) {
				told[k] = append(told[k], fmt.Sprint(l.Operations, l.Is(), effect.Places(&l)))
			}
		}
		require.True(t, slices.Equal(told[0], told[1]), "%s: %d lines and %d", id, len(told[0]), len(told[1]))
	}
	require.NotZero(t, inPart)
}

// apart lists what is in one set and not in another, or the first of it.
func apart(one, other map[string]bool) (out []string) {
	for _, key := range slices.Sorted(maps.Keys(one)) {
		if !other[key] && len(out) < 5 {
			out = append(out, key)
		}
	}
	return out
}

// editedSomehow makes an edit of one entry, and says of which.
func editedSomehow(t *testing.T, d draw, e *estate.Estate) (string, *estate.Estate) {
	any := func(ids []string) string { return ids[d.IntN(len(ids))] }
	place := e.Tree.At(d.IntN(e.Tree.Len()))
	sep := "/"
	if place.Address.Path == "" {
		sep = ":"
	}
	at := []estate.ResourceTerm{{In: plain(t, place.Address.String())}, {Types: []string{place.Type}},
		term(t, place.Address.String()+sep+d.one("new", "**")), {In: plain(t, place.Address.String()), Not: true}}
	who := estate.SubjectTerm{Principal: estate.Principal{ID: d.one(drawnPeople...)}, Not: d.chance(20)}
	gr, b := *e.Grants[any(slices.Sorted(maps.Keys(e.Grants)))], *e.Blocks[any(slices.Sorted(maps.Keys(e.Blocks)))]
	group, r := *e.Groups[any(slices.Sorted(maps.Keys(e.Groups)))], *e.Roles[any(slices.Sorted(maps.Keys(e.Roles)))]
	switch d.IntN(10) {
	case 0:
		return "grant dropped " + gr.ID, e.With(estate.Drop("grants", gr.ID))
	case 1, 2:
		gr.On = append(slices.Clone(gr.On), at[d.IntN(len(at))])
		return fmt.Sprint("grant on ", gr.On), e.With(estate.Put("grants", &gr))
	case 3:
		gr.On = estate.Resources{at[d.IntN(3)]}
		return fmt.Sprint("grant on ", gr.On), e.With(estate.Put("grants", &gr))
	case 4:
		gr.To = estate.Subjects{{Principal: estate.Principal{ID: d.one(drawnPeople...)}}}
		return fmt.Sprint("grant to ", gr.To), e.With(estate.Put("grants", &gr))
	case 5:
		b.On = append(slices.Clone(b.On), at[d.IntN(len(at))])
		return fmt.Sprint("block on ", b.On), e.With(estate.Put("blocks", &b))
	case 6:
		group.Members = append(slices.Clone(group.Members), who)
		return fmt.Sprint("group of ", group.Members), e.With(estate.Put("groups", &group))
	case 7:
		one := *e.People[d.one(drawnPeople...)]
		one.Status = d.one(estate.Statuses...)
		return fmt.Sprint(one.ID, " is ", one.Status), e.With(estate.Put("people", &one))
	case 8:
		scope := &estate.Scope{Object: estate.Object{ID: "fresh"}, Resources: estate.Resources{at[d.IntN(3)]}}
		gr.On = append(slices.Clone(gr.On), estate.ResourceTerm{Scope: scope.ID})
		edits := []estate.Edit{estate.Put("scopes", scope), estate.Put("grants", &gr)}
		if d.chance(50) {
			edits[1] = estate.Drop("grants", gr.ID)
		}
		return fmt.Sprint("scope and grant on ", gr.On), e.With(edits...)
	}
	r.Allow = slices.Clone(r.Allow[:len(r.Allow)-1])
	return "role " + r.ID, e.With(estate.Put("roles", &r))
}

// Places that are told apart by more lists say of each list what it covers itself, listed or not.
func TestExtendedPlacesCoverWhatTheirListsDo(t *testing.T) {
	covered, more := 0, 0
	for seed := range uint64(scaled(400)) {
		d := newDraw(seed + 47e6)
		e := load(t, d.estate())
		lists := gate.ListsOf(estate.Sorted(e.Grants), estate.Sorted(e.Blocks))
		d.Shuffle(len(lists), func(i, j int) { lists[i], lists[j] = lists[j], lists[i] })
		some := d.IntN(len(lists) + 1)
		beside := mustAddress(e.Tree.Address(d.IntN(e.Tree.Len())) + d.one("", "/new"))
		if beside.Path == "/new" {
			beside.Path = "new"
		}
		before, which := placemap.New(e, lists[:some], nil, compiled(t, e).Classes)
		complex := len(before.Complex)
		p := before.Extended(lists[some:], []estate.Address{beside})
		require.Contains(t, p.Marks, beside)
		require.Len(t, before.Complex, complex)
		if more += len(p.Complex) - complex; some > 0 {
			n, _ := p.NumberOf(slices.Clone(lists[0]))
			require.Equal(t, which[0], n, "the lists keep their numbers")
		}
		swapped := slices.Clone(lists[:some])
		if some > 0 && some < len(lists) {
			swapped[some-1] = lists[some]
		}
		taken, again, ok := placemap.Take(e, lists[:some], before.Classes, before.Known(which))
		require.True(t, ok)
		require.Equal(t, which, again)
		for known, lists := range map[*placemap.Map][]estate.Resources{p: lists[:some], before: swapped, taken: swapped} {
			other, which := known.For(e, lists, nil)
			for row := range e.Tree.Len() {
				for n := range other.Traits.Lists(other.Spots[row].Trait) {
					require.Less(t, n, len(other.Complex), "seed %d: a list that is no more", seed)
				}
				for i, l := range lists {
					require.Equal(t, placemap.Covers(e, l, e.Tree.At(row)), other.Covers(which[i], other.Spots[row]), "seed %d", seed)
				}
			}
		}
		for _, l := range lists {
			n, is := p.NumberOf(l)
			require.True(t, is)
			for row := range e.Tree.Len() {
				r := e.Tree.At(row)
				want := placemap.Covers(e, l, r)
				require.Equal(t, want, p.Covers(n, p.Spots[row]), "seed %d: %s in %s", seed, r.Address, l)
				if want {
					covered++
				}
				if !r.System.Judge {
					continue
				}
				under := estate.Address{System: r.System.ID, Path: strings.TrimPrefix(r.Address.Path+"/b", "/")}
				if e.Listed(under) == nil {
					at, _ := p.Unlisted(under.String())
					require.Equal(t, placemap.Covers(e, l, e.Unlisted(under)), p.Covers(n, at), "seed %d: %s in %s", seed, under, l)
				}
			}
		}
	}
	require.Positive(t, covered)
	require.Positive(t, more, "no list that is new needs a trait")
}
