package logbook_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/change"
	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/logbook"
	"hiddengate/internal/policyfile"
)

const policy = `hidden-gate: 1
systems: {db: {kind: database, resources: {a: {}, b: {}}}, net: {kind: network-console}}
people: {ana: {}, bo: {}}
groups: {crew: {members: [ana]}}
scopes: {dbs: [db]}
roles: {r: {allow: [schema.view]}, n: {allow: [device.view]}}
grants:
  look: {to: group:crew, role: r, on: db}
  lift: {to: group:crew, role: r, on: [db, net], on-request: {longest: 2h}}
`

func load(t *testing.T, text string) *estate.Estate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err)
	return e
}

// log reads events as they come, each with its number.
type log struct {
	t      *testing.T
	events []ledger.Event
	reader logbook.Reader
}

func newLog(t *testing.T) *log {
	l := &log{t: t}
	l.reader.Find = func(n int64) (ledger.Event, bool, error) {
		if n < 1 || n > int64(len(l.events)) {
			return ledger.Event{}, false, nil
		}
		return l.events[n-1], true, nil
	}
	return l
}

func (l *log) add(who string, kind ledger.Kind, about int64, body any) *logbook.Entry {
	text, err := json.Marshal(body)
	require.NoError(l.t, err)
	l.events = append(l.events, ledger.Event{Number: int64(len(l.events) + 1), About: about, User: "desk", Host: "summit",
		Command: "set grant", Statement: ledger.Statement{Actor: who, Kind: kind, Body: text}})
	one, err := l.reader.Read(l.events[len(l.events)-1])
	require.NoError(l.t, err)
	return one
}

func TestEventsAreSentences(t *testing.T) {
	l := newLog(t)
	starts := ledger.Time(clock.Instant(1_800_000_000) * clock.Second)
	for _, c := range []struct {
		who   string
		kind  ledger.Kind
		about int64
		body  any
		says  string
	}{
		{"", ledger.Began, 0, ledger.BeganBody{}, "the log begins"},
		{"ana", ledger.Requested, 0, ledger.RequestBody{Grant: "lift", Within: "db:a", Seconds: 5400, Reason: "stuck",
			Ticket: "T-7", Emergency: true}, "asked for grant lift on db:a for 90m, in an emergency: stuck (ticket T-7)"},
		{"ana", ledger.Requested, 0, ledger.RequestBody{Grant: "lift", Seconds: 3600, Starts: &starts},
			"asked for grant lift for 1h from 2027-01-15T08:00Z"},
		{"bo", ledger.Approved, 2, ledger.DecisionBody{}, "approved request 2 of ana, grant lift on db:a"},
		{"bo", ledger.Refused, 3, ledger.DecisionBody{Why: "storm"}, "refused request 3 of ana, grant lift: storm"},
		{"ana", ledger.Finished, 2, ledger.DecisionBody{}, "ended request 2 of ana, grant lift on db:a"},
		{"bo", ledger.Approved, 99, ledger.DecisionBody{}, "approved request 99"},
		{"", ledger.PolicyChanged, 0, ledger.PolicyBody{Entries: []string{"grant look"}},
			"changed grant look (hgate set grant)"},
		{"", ledger.PolicyFound, 0, ledger.PolicyBody{Files: []ledger.FileChange{{Name: "a.yaml", Was: "1", Is: "2"}},
			Revision: "0123456789abcdef", Author: "Ana <ana@ternhollow.example>"}, "found that a.yaml changed by " +
			"another way than a command; as in revision 0123456789 of Ana <ana@ternhollow.example>"},
		{"hana", ledger.Imported, 0, ledger.ImportedBody{Events: 1}, "took over 1 event of another log"},
		{"hana", ledger.ReviewOpened, 0, ledger.ReviewBody{On: []string{"db"}, By: []string{"group:crew"},
			Items: make([]ledger.ReviewItem, 2)}, "opened a review of db, which asks group:crew about 2 items"},
		{"bo", ledger.ReviewAnswered, 12, ledger.AnswerBody{Answers: []ledger.ItemAnswer{{Item: "grant look",
			Answer: "keep"}}}, "answered in review 12: keep grant look"},
		{"hana", ledger.ReviewClosed, 12, ledger.ClosedBody{Kept: 1, Left: 1},
			"closed review 12: 1 kept, 0 ended, 1 not answered"},
		{"hana", ledger.ReviewReminded, 12, nil, "reminded of review 12"},
	} {
		assert.Equal(t, c.says, l.add(c.who, c.kind, c.about, c.body).Sentence(clock.UTC))
	}
	// What cannot be read is said to be so, and never anything else.
	assert.Equal(t, "asked for something that cannot be read",
		l.add("ana", ledger.Requested, 0, []int{1}).Sentence(clock.UTC))
}

// The effect of an edit in the log is the effect that the edit told.
func TestTheEffectOfAnEditIsKept(t *testing.T) {
	before := load(t, policy)
	after := load(t, policy+"  more: {to: bo, role: n, on: net}\n")
	effect, err := change.Of(t.Context(), before, after, change.How{})
	require.NoError(t, err)
	text, err := logbook.EffectOf(effect)
	require.NoError(t, err)
	l := newLog(t)
	one := l.add("", ledger.PolicyChanged, 0, ledger.PolicyBody{Entries: effect.Entries(), Effect: text})
	assert.Equal(t, "changed grant more (hgate set grant); bo gained device.view on net", one.Sentence(clock.UTC))
	lines := one.Effect().Lines
	require.Len(t, lines, len(effect.Lines)+len(effect.Coming))
	assert.Equal(t, []string{"device.view"}, lines[0].Operations)
	same, err := logbook.EffectOf(mustBeEmpty(t, before))
	require.NoError(t, err)
	assert.Nil(t, same)
}

func mustBeEmpty(t *testing.T, e *estate.Estate) *change.Effect {
	effect, err := change.Of(t.Context(), e, e, change.How{})
	require.NoError(t, err)
	require.True(t, effect.Empty())
	return effect
}

func TestWhatEventsAreAbout(t *testing.T) {
	e := load(t, policy)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	effect, err := change.Of(t.Context(), e, load(t, policy+"  more: {to: bo, role: n, on: net}\n"), change.How{})
	require.NoError(t, err)
	text, err := logbook.EffectOf(effect)
	require.NoError(t, err)
	l := newLog(t)
	narrow := l.add("ana", ledger.Requested, 0, ledger.RequestBody{Grant: "lift", Within: "db:a", Seconds: 60})
	wide := l.add("ana", ledger.Requested, 0, ledger.RequestBody{Grant: "lift", Seconds: 60})
	yes := l.add("bo", ledger.Approved, 1, ledger.DecisionBody{})
	edit := l.add("", ledger.PolicyChanged, 0, ledger.PolicyBody{Entries: effect.Entries(), Effect: text})
	pushed := l.add("", ledger.Pushed, 0, ledger.PushedBody{System: "db", Count: 3, Despite: "a storm"})
	assert.Equal(t, "pushed the policy to db: 3 statements, despite what stood against it: a storm",
		pushed.Sentence(clock.UTC))
	joins := l.add("", ledger.PolicyChanged, 0, ledger.PolicyBody{Entries: []string{"person bo"}})
	list := func(text string) estate.Resources {
		term, err := estate.ParseResourceTerm(text)
		require.NoError(t, err)
		return estate.Resources{term}
	}
	for _, c := range []struct {
		entry *logbook.Entry
		whom  []string // whose access it is about
		what  []string
		where []string // places and scopes
	}{
		{narrow, []string{"ana"}, []string{"grant lift", "lift"}, []string{"db", "db:a", "scope:dbs"}},
		{wide, []string{"ana"}, []string{"grant lift", "lift"}, []string{"db", "db:a", "db:b", "net", "scope:dbs"}},
		{yes, []string{"ana"}, []string{"grant lift", "lift"}, []string{"db", "db:a", "scope:dbs"}},
		{edit, []string{"bo"}, []string{"grant more", "more"}, []string{"net"}},
		{pushed, nil, []string{"system db", "db"}, []string{"db", "db:a", "db:b", "scope:dbs"}},
		{joins, []string{"bo"}, []string{"person bo", "bo"}, nil},
	} {
		for what, is := range map[string]func(string) bool{
			"whom":  func(text string) bool { return c.entry.Concerns(estate.Principal{ID: text}) },
			"what":  c.entry.Names,
			"where": func(text string) bool { return logbook.NewArea(g, list(text)).Has(c.entry) },
		} {
			want := map[string][]string{"whom": c.whom, "what": c.what, "where": c.where}[what]
			all := map[string][]string{"whom": {"ana", "bo"}, "what": {"grant lift", "lift", "grant more", "more", "look",
				"person bo", "bo", "system db", "db"}, "where": {"db", "scope:dbs", "db:a", "db:b", "net"}}[what]
			var got []string
			for _, text := range all {
				if is(text) {
					got = append(got, text)
				}
			}
			assert.ElementsMatch(t, want, got, "%s of event %d", what, c.entry.Number)
		}
	}
	term, err := estate.ParseResourceTerm("scope:gone")
	require.NoError(t, err)
	assert.False(t, logbook.NewArea(g, estate.Resources{term}).Has(wide), "a scope that there is not holds nothing")
}

// Whoever is told of by their group, or by number, is found by name; where there are too many, anybody may be among
// them. So it is with places.
func TestWhoAndWhereAreFoundThoughTheyAreSummedUp(t *testing.T) {
	for _, c := range []struct {
		people      int
		who         string // as the event says it
		others      bool   // those are found too whose access stayed as it was
		says, where string
	}{
		{5, "p4", false, "all 5 people of group:crew gained schema.view", "db:f"},
		{1100, "p1099", true, "all 1100 people of group:crew gained schema.view", "db:f"},
		{4, "p1", false, "all 4 people of group:crew gained schema.view on db:t0, db:t1, db:t10 and 57 more", "db:t58"},
	} {
		tables, on := "", "everything"
		if strings.Contains(c.says, " more") {
			on = "["
			for i := range 60 {
				tables += fmt.Sprintf(", t%d: {}", i)
				on += fmt.Sprintf("'db:t%d', ", i)
			}
			on += "]"
		}
		text := "hidden-gate: 1\nsystems: {db: {kind: database, resources: {a: {}, b: {}, c: {}, d: {}, e: {}, f: {}" +
			tables + "}}, net: {kind: network-console}, box: {kind: server}}\nroles: {r: {allow: [schema.view]}}\n"
		people, members := "other: {}", ""
		for i := range c.people {
			people += fmt.Sprintf(", p%d: {}", i)
			members += fmt.Sprintf(", p%d", i)
		}
		text += "people: {" + people + "}\ngroups: {crew: {members: [" + members[2:] + "]}}\n"
		after := load(t, text+"grants: {g: {to: group:crew, role: r, on: "+on+"}}\n")
		g, err := gate.Compile(after, nil)
		require.NoError(t, err)
		effect, err := change.Of(t.Context(), load(t, text), after, change.How{})
		require.NoError(t, err)
		kept, err := logbook.EffectOf(effect)
		require.NoError(t, err)
		one := newLog(t).add("", ledger.PolicyChanged, 0, ledger.PolicyBody{Entries: effect.Entries(), Effect: kept})
		assert.Contains(t, one.Sentence(clock.UTC), c.says)
		assert.True(t, one.Concerns(estate.Principal{ID: c.who}))
		assert.Equal(t, c.others, one.Concerns(estate.Principal{ID: "other"}))
		term, err := estate.ParseResourceTerm(c.where)
		require.NoError(t, err)
		assert.True(t, logbook.NewArea(g, estate.Resources{term}).Has(one))
	}
}
