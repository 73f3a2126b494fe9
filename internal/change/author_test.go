package change_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
)

// drawnPolicy is a drawn workspace as its parts, each of which an edit may write anew.
type drawnPolicy struct {
	*rand.Rand
	resources map[string]string // tags, by path
	people    map[string]string // tags
	groups    map[string][]string
	match     map[string]string
	roles     map[string]string
	scopes    map[string]string
	grants    map[string][3]string // to, role, on
	blocks    map[string][3]string // to, deny, on
	rest      string
}

var (
	smallOps    = []string{"box.see", "box.use", "box.make", "box.rule"}
	smallPeople = []string{"lead", "ana", "bo", "boss"}
	smallGroups = []string{"crew", "odd", "void"}
	smallTags   = []string{"", "crew: yes", "crew: no"}
)

func (s *drawnPolicy) one(of ...string) string { return of[s.IntN(len(of))] }

func drawSmall(seed uint64) *drawnPolicy {
	s := &drawnPolicy{Rand: rand.New(rand.NewPCG(seed, 11)), match: map[string]string{}}
	s.resources = map[string]string{"a": s.one(smallTags...), "a/x": s.one(smallTags...), "b": s.one(smallTags...)}
	s.people = map[string]string{"lead": "", "ana": "", "bo": s.one("", "team: t"), "boss": ""}
	s.groups = map[string][]string{"crew": {"ana"}, "odd": {s.one("bo", "boss", "group:crew")}, "void": nil}
	if s.IntN(3) == 0 {
		s.match["odd"] = "team: t"
	}
	s.roles = map[string]string{"low": s.one("box.see", "[box.see, box.use]"),
		"mid": s.one("[box.use, box.make]", "box.use"), "top": "all"}
	s.scopes = map[string]string{"ours": s.one("{in: sys, tags: {crew: yes}}", "sys:a", "[sys, not sys:b]",
		"[sys, {not: {tags: {crew: no}}}]")}
	s.grants, s.blocks = map[string][3]string{}, map[string][3]string{}
	for i := range 2 + s.IntN(3) {
		s.grants[fmt.Sprint("g", i)] = [3]string{s.who(), s.one("low", "mid", "top"), s.where()}
	}
	if s.IntN(2) == 0 {
		s.blocks["b"] = [3]string{s.one("[everyone, not group:odd]", "group:odd", "group:void", "bo"),
			s.one("all", "[from use]"), s.where()}
	}
	s.rest = fmt.Sprintf("delegations:\n  d: {to: %s, may-grant: %s, on: %s%s%s%s}\n", s.one("lead", "[lead, group:void]"),
		s.one("low", "[low, mid]"), s.one("scope:ours", "sys:a", "sys"),
		s.one(", to-members-of: group:crew", ", to-members-of: [group:crew, bo]", ""), s.one(", may-edit: group:crew", ""),
		s.one("", ", within: [up to use]", ", to-self: true"))
	return s
}

func (s *drawnPolicy) who() string {
	return s.one("ana", "bo", "lead", "boss", "group:crew", "group:odd", "group:void", "everyone", "[everyone, not lead]")
}

func (s *drawnPolicy) where() string {
	return s.one("sys", `"sys:a"`, `"sys:b"`, `"sys:a/**"`, "scope:ours", "{in: sys, tags: {crew: yes}}", "everything",
		`"sys:**/new"`)
}

func (s *drawnPolicy) clone() *drawnPolicy {
	c := *s
	c.resources, c.people, c.groups, c.match = maps.Clone(s.resources), maps.Clone(s.people), maps.Clone(s.groups),
		maps.Clone(s.match)
	c.roles, c.scopes, c.grants, c.blocks = maps.Clone(s.roles), maps.Clone(s.scopes), maps.Clone(s.grants),
		maps.Clone(s.blocks)
	return &c
}

// edited makes a random edit.
func (s *drawnPolicy) edited() *drawnPolicy {
	c := s.clone()
	pick := func(m []string) string { return m[s.IntN(len(m))] }
	switch s.IntN(11) {
	case 0:
		c.resources[pick([]string{"a", "a/x", "b"})] = s.one(smallTags...)
	case 1:
		c.people[pick(smallPeople)] = s.one("", "team: t")
	case 2, 3, 4:
		g := pick(smallGroups)
		c.groups[g] = append(slices.Clone(c.groups[g]), s.one("lead", "ana", "bo", "boss", "group:void"))
		if g == "void" {
			c.groups[g][len(c.groups[g])-1] = s.one("lead", "bo")
		}
	case 5, 6, 7:
		c.grants[s.one("g0", "g1", "n0", "n1")] = [3]string{s.who(), s.one("low", "mid", "top"), s.where()}
	case 8:
		delete(c.grants, s.one("g0", "g1"))
	case 9:
		c.roles[s.one("low", "mid")] = s.one("box.see", "[box.see, box.use]", "[box.use, box.make]", "all")
	case 10:
		c.resources[s.one("c", "a/new")] = s.one(smallTags...)
	}
	return c
}

func (s *drawnPolicy) text() string {
	var b strings.Builder
	b.WriteString("hidden-gate: 1\ncatalogs: {box: {types: [box], operations: {box.see: {level: view}, box.use: {level: " +
		"use}, box.make: {level: change}, box.rule: {level: govern}}}}\nsystems:\n  sys:\n    kind: box\n    resources:\n")
	for _, path := range slices.Sorted(maps.Keys(s.resources)) {
		fmt.Fprintf(&b, "      %q: {tags: {%s}}\n", path, s.resources[path])
	}
	b.WriteString("people:\n")
	for _, id := range slices.Sorted(maps.Keys(s.people)) {
		fmt.Fprintf(&b, "  %s: {tags: {%s}}\n", id, s.people[id])
	}
	b.WriteString("groups:\n")
	for _, id := range slices.Sorted(maps.Keys(s.groups)) {
		var parts []string
		if len(s.groups[id]) > 0 {
			parts = append(parts, "members: ["+strings.Join(s.groups[id], ", ")+"]")
		}
		if s.match[id] != "" {
			parts = append(parts, "match: {"+s.match[id]+"}")
		}
		fmt.Fprintf(&b, "  %s: {%s}\n", id, strings.Join(parts, ", "))
	}
	b.WriteString("roles:\n")
	for _, id := range slices.Sorted(maps.Keys(s.roles)) {
		fmt.Fprintf(&b, "  %s: {allow: %s}\n", id, s.roles[id])
	}
	b.WriteString("scopes:\n")
	for _, id := range slices.Sorted(maps.Keys(s.scopes)) {
		fmt.Fprintf(&b, "  %s: %s\n", id, s.scopes[id])
	}
	b.WriteString("grants:\n")
	for _, id := range slices.Sorted(maps.Keys(s.grants)) {
		fmt.Fprintf(&b, "  %s: {to: %s, role: %s, on: %s}\n", id, s.grants[id][0], s.grants[id][1], s.grants[id][2])
	}
	if len(s.blocks) > 0 {
		b.WriteString("blocks:\n")
	}
	for id, x := range s.blocks {
		fmt.Fprintf(&b, "  %s: {to: %s, deny: %s, on: %s}\n", id, x[0], x[1], x[2])
	}
	return b.String() + s.rest
}

// thing is a resource as it is described: what is listed, or may be.
type thing struct {
	path string
	tags map[string]string
}

// model is a plain, slow reading of a small estate. It shares no matching with the program.
type model struct{ e *estate.Estate }

func (m model) in(who string, list estate.Subjects) bool {
	has := func(p estate.Principal) bool {
		switch p.Kind {
		case estate.IsEveryone:
			return true
		case estate.IsGroup:
			g := m.e.Groups[p.ID]
			in := m.in(who, g.Members)
			for _, match := range g.Match {
				in = in || m.e.People[who] != nil && slices.Contains(match.Values, m.e.People[who].Tags.Get(match.Key))
			}
			return in
		}
		return p.ID == who
	}
	in := slices.ContainsFunc(list, func(t estate.SubjectTerm) bool { return !t.Not && has(t.Principal) })
	return in && !slices.ContainsFunc(list, func(t estate.SubjectTerm) bool { return t.Not && has(t.Principal) })
}

func (m model) covers(list estate.Resources, x thing) bool {
	one := func(t estate.ResourceTerm) bool {
		if t.Everything {
			return true
		}
		if t.Scope != "" {
			return m.covers(m.e.Scopes[t.Scope].Resources, x)
		}
		if t.In != nil {
			pattern, inside := strings.TrimPrefix(strings.TrimPrefix(t.In.String(), "sys"), ":"), "/"+x.path+"/"
			switch pattern {
			case "a/**":
				pattern = "a"
			case "**/new":
				if !strings.Contains(inside, "/new/") {
					return false
				}
				pattern = ""
			}
			if pattern != "" && !strings.HasPrefix(inside, "/"+pattern+"/") {
				return false
			}
		}
		for _, match := range t.Tags {
			if v := x.tags[match.Key]; v == "" || !slices.Contains(match.Values, v) {
				return false
			}
		}
		return true
	}
	in := slices.ContainsFunc(list, func(t estate.ResourceTerm) bool { return !t.Not && one(t) })
	return in && !slices.ContainsFunc(list, func(t estate.ResourceTerm) bool { return t.Not && one(t) })
}

// things gives what is listed, with what it inherits, and what may come.
func (m model) things() map[string]thing {
	out := map[string]thing{"\x00new": {"d", map[string]string{}}, "\x00tagged": {"d", map[string]string{"crew": "yes"}},
		"\x00other": {"a/d", map[string]string{"crew": "no"}}, "\x00named": {"b/new", map[string]string{}}}
	for r := range m.e.Tree.All() {
		tags := map[string]string{}
		for _, t := range r.Tags {
			tags[t.Key] = t.Value
		}
		out[r.Address.Path] = thing{r.Address.Path, tags}
	}
	return out
}

func (m model) allowed(who, op string, x thing) bool {
	fits := func(list estate.Operations) bool { return list.Fit(m.e.Operations[op], 1) }
	given := false
	for _, g := range m.e.Grants {
		given = given || m.in(who, g.To) && fits(m.e.Roles[g.Roles[0].ID].Allow) && m.covers(g.On, x)
	}
	for _, b := range m.e.Blocks {
		given = given && !(m.in(who, b.To) && fits(b.Deny) && m.covers(b.On, x))
	}
	return given
}

// covered says whether the delegations to the lead cover that somebody gets an operation on a resource as it was.
func (m model) covered(who, op string, x thing) bool {
	for _, d := range m.e.Delegations {
		if !m.in("lead", d.To) || d.Within != nil && !d.Within.Fit(m.e.Operations[op], 1) || who == "lead" && !d.ToSelf {
			continue
		}
		fills := func(t estate.SubjectTerm) bool { return mayFill(d, t.Principal) }
		if d.MayEdit != nil { // whoever joins has what the group has
			for _, t := range d.MayEdit {
				joined := model{withMember(m.e, t.ID, who)}
				if joined.allowed(who, op, x) && m.e.Groups[t.ID] != nil {
					return true
				}
			}
		}
		to := d.ToMembersOf == nil || m.in(who, d.ToMembersOf) || slices.ContainsFunc(d.ToMembersOf, fills)
		role := slices.ContainsFunc(d.MayGrant,
			func(r estate.Ref) bool { return m.e.Roles[r.ID].Allow.Fit(m.e.Operations[op], 1) })
		if to && role && m.covers(d.On, x) {
			return true
		}
	}
	return false
}

func mayFill(d *estate.Delegation, p estate.Principal) bool {
	return slices.ContainsFunc(d.MayEdit, func(t estate.SubjectTerm) bool { return t.Principal == p })
}

func withMember(e *estate.Estate, group, who string) *estate.Estate {
	with := *e
	with.Groups = maps.Clone(e.Groups)
	g := *e.Groups[group]
	g.Members = append(slices.Clone(g.Members), estate.SubjectTerm{Principal: estate.Principal{ID: who}})
	with.Groups[group] = &g
	return &with
}

func smallEstates(n int) int { return shape.Drawn(n, 60, testing.Short()) }

// Whatever is accepted gives nobody anything, at once or by two edits in turn, that the old delegations do not cover.
func TestWhatIsAcceptedIsCovered(t *testing.T) {
	now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
	require.NoError(t, err)
	counts := map[string]int{}
	for seed := range uint64(smallEstates(400)) {
		s := drawSmall(seed)
		first, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(s.text())}})
		require.NoError(t, err, s.text())
		was := model{first}
		at, e := s, first
		for range 6 {
			next := at.edited()
			after, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(next.text())}})
			if err != nil {
				continue
			}
			breaches, err := change.Judge(t.Context(), e, after, estate.Principal{ID: "lead"}, now)
			require.NoError(t, err)
			if len(breaches) > 0 {
				counts["refused"]++
				continue
			}
			counts["accepted"]++
			is := model{after}
			before := was.things()
			for name, x := range is.things() {
				old, there := before[name]
				if !there { // it is new: what would have come there inherits
					old = thing{x.path, map[string]string{}}
					if above, ok := before[strings.TrimSuffix(name, "/new")]; ok {
						old.tags = above.tags
					}
				}
				for _, who := range smallPeople {
					for _, op := range smallOps {
						if is.allowed(who, op, x) && !was.allowed(who, op, old) {
							counts["gained"]++
							require.True(t, was.covered(who, op, old), "seed %d: %s gets %s on %q, which nothing covers\n%s\nbecomes\n%s",
								seed, who, op, name, s.text(), next.text())
						}
					}
				}
			}
			if at, e = next, after; counts["accepted"]%2 == 0 {
				break
			}
		}
	}
	t.Log(counts)
	require.Greater(t, counts["accepted"], smallEstates(400)/2)
	require.Greater(t, counts["gained"], smallEstates(400)/20)
}

// Whatever a delegation covers is accepted.
func TestWhatIsCoveredIsAccepted(t *testing.T) {
	now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
	require.NoError(t, err)
	accepted := 0
	for seed := range uint64(smallEstates(300)) {
		s := drawSmall(seed + 1e6)
		first, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(s.text())}})
		require.NoError(t, err, s.text())
		d := first.Delegations["d"]
		role := d.MayGrant[s.IntN(len(d.MayGrant))].ID
		if d.Within != nil && slices.ContainsFunc(smallOps, func(op string) bool {
			return first.Roles[role].Allow.Fit(first.Operations[op], 1) && !d.Within.Fit(first.Operations[op], 1)
		}) {
			continue
		}
		to := s.one("ana", "group:crew")
		if (model{first}).in("lead", estate.Subjects{{Principal: estate.Principal{Kind: estate.IsGroup, ID: "crew"}}}) &&
			!d.ToSelf {
			continue
		}
		on := "scope:ours"
		if text := d.On[0].String(); text != "scope:ours" {
			on = s.one(strconv.Quote(text), "{in: "+strconv.Quote(text)+", tags: {crew: yes}}", `"sys:a/x"`)
		}
		c := s.clone()
		c.grants["n"] = [3]string{to, role, on}
		after, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(c.text())}})
		require.NoError(t, err)
		breaches, err := change.Judge(t.Context(), first, after, estate.Principal{ID: "lead"}, now)
		require.NoError(t, err)
		require.Empty(t, breaches, "seed %d: %v\n%s", seed, c.grants["n"], s.text())
		accepted++
	}
	require.Greater(t, accepted, smallEstates(300)/3)
}
