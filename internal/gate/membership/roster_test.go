package membership_test

import (
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/policyfile"
)

const crews = `hidden-gate: 1
people: {ana: {tags: {team: x}}, bo: {}, cai: {}}
services: {cai: {}}
groups:
  inner: {members: [ana]}
  outer: {members: [group:inner]}
  tagged: {match: {team: x}}
  other: {members: [cai]}
  robots: {members: ["service:cai"]}
  less: {match: {team: [x, y]}, members: [bo, not ana]}
`

// The roster of an edited estate says of each group who is in it now, also where another edit is behind it: of a group
// in it, or of whom it matches.
func TestGroupsAreTakenOverOnlyWhereAllTheyAreMadeOfIsTheSame(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(crews)}})
	require.NoError(t, err)
	known := membership.New(e)
	for id := range e.Groups {
		known.Group(id) // they are known by then
	}
	inner, bo := *e.Groups["inner"], *e.People["bo"]
	inner.Members = append(estate.Subjects{{Principal: estate.Principal{ID: "bo"}}}, inner.Members...)
	bo.Tags = e.People["ana"].Tags
	ids := func(r *membership.Roster, group string) (out []string) {
		for _, p := range r.Group(group) {
			out = append(out, p.ID)
		}
		return out
	}
	after := known.For(e.With(estate.Put("groups", &inner)))
	require.Equal(t, []string{"ana", "bo"}, ids(after, "inner"))
	require.Equal(t, []string{"ana", "bo"}, ids(after, "outer"))
	require.Equal(t, []string{"cai"}, ids(after, "other"))
	require.Equal(t, []string{"ana"}, ids(after, "tagged"))
	require.Equal(t, []string{"ana", "bo"}, ids(known.For(e.With(estate.Put("people", &bo))), "tagged"))
	require.Equal(t, []string{"ana"}, ids(known, "outer"))
}

// Whether a list selects somebody is told as by listing all whom it selects.
func TestAListSelectsThoseItLists(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(crews)}})
	require.NoError(t, err)
	r, fresh := membership.New(e), membership.New(e) // which gathers no groups
	group := func(id string, not bool) estate.SubjectTerm {
		return estate.SubjectTerm{Principal: estate.Principal{Kind: estate.IsGroup, ID: id}, Not: not}
	}
	everyone := estate.SubjectTerm{Principal: estate.Principal{Kind: estate.IsEveryone}}
	selected := 0
	for _, list := range []estate.Subjects{{group("outer", false)}, {everyone}, {everyone, group("outer", true)},
		{group("outer", true), everyone, group("other", false)}, {group("inner", false), group("other", false),
			{Principal: estate.Principal{ID: "cai"}, Not: true}}, {{Principal: estate.Principal{Kind: estate.IsAnonymous}}},
		{group("tagged", false)}, {group("less", false)}, {group("robots", false)}} {
		all := r.Lists.Selected(list)
		for n := range r.All {
			require.Equal(t, membership.Has(all, n), r.Lists.Selects(list, n), "%v in %v", r.SubjectOf(n), list)
			require.Equal(t, membership.Has(all, n), fresh.Lists.Selects(list, n), "%v in %v", r.SubjectOf(n), list)
		}
		selected += len(all)
	}
	require.Equal(t, 1+4+3+3+1+1+1+1+1, selected)
}

// What two lists have in common is found, whichever is the longer.
func TestWhatListsHaveInCommon(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		list := rapid.SliceOfNDistinct(rapid.Uint32Range(0, 60), 0, 40, rapid.ID[uint32])
		few := rapid.SliceOfNDistinct(rapid.Uint32Range(0, 60), 0, 4, rapid.ID[uint32])
		a, b := list.Draw(t, "a"), rapid.OneOf(list, few).Draw(t, "b")
		slices.Sort(a)
		slices.Sort(b)
		var want []uint32
		for _, n := range a {
			if slices.Contains(b, n) {
				want = append(want, n)
			}
		}
		require.Equal(t, want, membership.Common(a, b))
		require.Equal(t, want, membership.Common(b, a))
		require.Equal(t, want != nil, membership.Meet(a, b))
		require.Equal(t, want != nil, membership.Meet(b, a))
	})
}
