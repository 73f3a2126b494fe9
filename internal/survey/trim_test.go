package survey_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/survey"
)

const watch = `hidden-gate: 1
systems: {dish: {kind: device-console}, db: {kind: database, resources: {sky: {}, sky/t: {}}}}
people: {ana: {}, bo: {}, cai: {}}
groups: {crew: {members: [ana, bo]}}
roles:
  steer: {allow: [control.take, position.set, position.view, unit.view, routine.run]}
  wide: {allow: [table.*]}
  idle: {allow: [unit.view]}
grants:
  crew-steers: {to: group:crew, role: steer, on: dish, when: {hours: 'daily 18:00-06:00'}}
  crew-lifts: {to: group:crew, role: steer, on: dish, on-request: {longest: 1h}, when: {hours: 'daily 12:00-13:00'}}
  cai-writes: {to: cai, role: wide, on: db}
  cai-idles: {to: cai, role: idle, on: dish}
`

func TestWhatALogSaysOfAPolicy(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(watch)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	trimmer := survey.NewTrimmer(g)
	for i, line := range strings.Split(`2027-11-01T20:00 ana position.set dish
2027-11-01T10:00 ana position.set dish
2027-11-02T12:30 bo position.set dish
2027-11-02T12:30 cai table.read db:sky/t
2027-11-02T12:30 cai unit.view db:sky/t
2027-11-02T12:30 dee table.read db:sky/t
2027-11-02T12:30 bo table.read db:sky/t`, "\n") {
		f := strings.Fields(line)
		at, err := e.Zone.ParseTime(f[0])
		require.NoError(t, err)
		trimmer.Take(survey.Action{At: at, Who: estate.Principal{ID: f[1]}, Operation: f[2], Resource: f[3], Line: i + 1})
	}
	out := trimmer.Trim()
	require.Equal(t, out, trimmer.Trim(), "it tells the same again")
	require.Equal(t, 7, out.Actions)
	var refused []int
	for _, r := range out.Refused {
		refused = append(refused, r.Line)
	}
	require.Equal(t, []int{2, 5, 6, 7}, refused) // by day, no such operation there, nobody known, no grant
	require.Empty(t, out.Refused[0].Why)
	require.Contains(t, out.Refused[1].Why, "unit.view")

	never := map[string]string{}
	narrow := map[string]string{}
	for _, u := range out.Roles {
		var names []string
		for _, o := range u.Never {
			names = append(names, o.Name)
		}
		never[u.ID] = strings.Join(names, " ")
		var terms []string
		for _, term := range u.Narrower(g).Allow {
			terms = append(terms, term.String())
		}
		narrow[u.ID] = strings.Join(terms, ", ")
	}
	require.Equal(t, "control.take routine.run unit.view", never["steer"], "what position.set needs stays")
	require.Equal(t, "position.set, position.view", narrow["steer"])
	require.Equal(t, "unit.view", never["idle"])
	require.NotContains(t, never["wide"], "table.read")
	require.True(t, strings.HasPrefix(narrow["wide"], "table.read"), narrow["wide"])

	idle := map[string]int{}
	for _, u := range out.Grants {
		idle[u.ID] = u.Idle
		require.Len(t, u.IdleSubjects(), u.Idle, u.ID)
	}
	require.Equal(t, map[string]int{"crew-steers": 1, "crew-lifts": 1, "cai-writes": 0, "cai-idles": 1}, idle)

	// The narrower role still gives all that was done and was given.
	one := *e
	one.Roles = map[string]*estate.Role{"idle": e.Roles["idle"]}
	for _, u := range out.Roles {
		r := *e.Roles[u.ID]
		if u.ID != "idle" {
			r = *u.Narrower(g)
		}
		one.Roles[u.ID] = &r
	}
	ng, err := gate.Compile(&one, nil)
	require.NoError(t, err)
	again := survey.NewTrimmer(ng)
	at, _ := e.Zone.ParseTime("2027-11-01T20:00")
	again.Take(survey.Action{At: at, Who: estate.Principal{ID: "ana"}, Operation: "position.set", Resource: "dish"})
	again.Take(survey.Action{At: at, Who: estate.Principal{ID: "cai"}, Operation: "table.read", Resource: "db:sky/t"})
	require.Empty(t, again.Trim().Refused)
}

// What one role includes is used where the other is: taking it out of the one would take it from the other.
func TestWhatIsUsedThroughAnIncludingRoleStays(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {dish: {kind: device-console}}
people: {ana: {}, bo: {}}
roles: {low: {allow: [unit.view, log.view, position.view]}, high: {include: low, allow: position.set}}
grants: {a: {to: ana, role: low, on: dish}, b: {to: bo, role: high, on: dish}}
`)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	trimmer := survey.NewTrimmer(g)
	at, err := e.Zone.ParseTime("2027-11-01T20:00Z")
	require.NoError(t, err)
	trimmer.Take(survey.Action{At: at, Who: estate.Principal{ID: "ana"}, Operation: "unit.view", Resource: "dish"})
	trimmer.Take(survey.Action{At: at, Who: estate.Principal{ID: "bo"}, Operation: "log.view", Resource: "dish"})
	for _, u := range trimmer.Trim().Roles {
		if u.ID == "low" {
			require.Len(t, u.Never, 1)
			require.Equal(t, "position.view", u.Never[0].Name)
			return
		}
	}
	require.Fail(t, "nothing is said of the role that is included")
}

// An operation that an included role has for a time is not had for longer by the narrower role.
func TestANarrowerRoleKeepsDates(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {dish: {kind: device-console}}
people: {ana: {}}
roles:
  low: {allow: [unit.view, log.view, position.view, position.set, control.take], ends: 2027-12-01}
  high: {include: low, allow: [routine.run]}
grants: {a: {to: ana, role: high, on: dish}}
`)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	trimmer := survey.NewTrimmer(g)
	at, err := e.Zone.ParseTime("2027-11-01T20:00Z")
	require.NoError(t, err)
	trimmer.Take(survey.Action{At: at, Who: estate.Principal{ID: "ana"}, Operation: "unit.view", Resource: "dish"})
	roles := trimmer.Trim().Roles
	require.Len(t, roles, 1)
	narrower := roles[0].Narrower(g)
	require.NotEmpty(t, narrower.Include)
	ng, err := gate.Compile(e.With(estate.Put("roles", narrower)), nil)
	require.NoError(t, err)
	c := ng.NewContext()
	later, err := e.Zone.ParseTime("2027-12-24T20:00Z")
	require.NoError(t, err)
	c.Time(later)
	outcome, err := ng.Decide(
		gate.Request{Subject: estate.Principal{ID: "ana"}, Operation: "unit.view", Resource: "dish", Context: c})
	require.NoError(t, err)
	require.Equal(t, gate.Deny, outcome)
}
