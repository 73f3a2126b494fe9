package lending_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/lending"
	"hiddengate/internal/policyfile"
)

const start = clock.Instant(1_800_000_000) * clock.Second

func compile(t *testing.T, text string) *gate.Gate {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
	require.NoError(t, err, text)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	return g
}

// terms are those of the grant, as the files have them in the end.
type terms struct {
	there             bool // the grant is there, and lends
	longest, patience int  // minutes
	approvals         int
	approvers         []string
	emergency         bool
	ends              int // minutes after the start, of the grant; 0: never
}

func (m terms) policy() string {
	if !m.there {
		return "hidden-gate: 1\nsystems: {db: {kind: database}}\npeople: {ana: {}, bo: {}, cai: {}, dee: {}}\nowner: dee\n"
	}
	text := fmt.Sprintf("hidden-gate: 1\nowner: dee\nsystems: {db: {kind: database, resources: {a: {}, b: {}}}}\n"+
		"people: {ana: {}, bo: {}, cai: {}, dee: {}}\nroles: {r: {allow: [session.open]}}\n"+
		"grants: {g: {to: [ana, bo], role: r, on: db, on-request: {longest: %dm, approvals: %d, approvers: [%s], "+
		"emergency: %t, "+
		"decide-within: %dm}", m.longest, m.approvals, join(m.approvers), m.emergency, m.patience)
	if m.ends > 0 {
		text += ", ends: " + time.UnixMicro(int64(start)+int64(m.ends)*60e6).UTC().Format(time.RFC3339)
	}
	return text + "}}\n"
}

func join(names []string) (out string) {
	for i, n := range names {
		if i > 0 {
			out += ", "
		}
		out += n
	}
	return out
}

// happening is one event of a drawn history: who does what, how many minutes after the start.
type happening struct {
	at   int
	who  string
	kind ledger.Kind
}

// history is a request with what came after it, in the order of the ledger.
type history struct {
	minutes, wished, decideBy int // wished and decideBy after the start; wished 0: at once
	emergency                 bool
	asker                     string
	after                     []happening
}

// inForce says by the plain rules whether the request is in force at a minute: it goes through what happened once for
// each question, and keeps nothing but what it has seen.
func (h history) inForce(m terms, minute int) bool {
	if !m.there {
		return false
	}
	lasts, decideBy := min(h.minutes, m.longest), min(h.decideBy, m.patience)
	begins, over := -1, -1
	begin := func(at int) {
		begins = max(at, h.wished)
		if over = begins + lasts; m.ends > 0 {
			over = min(over, m.ends)
		}
		over = max(over, begins)
	}
	emergency := h.emergency && m.emergency
	if m.approvals == 0 || emergency {
		begin(0)
	}
	approved := map[string]bool{}
	ended, refused := false, false
	is := func(list []string, who string) bool {
		for _, one := range list {
			if one == who {
				return true
			}
		}
		return false
	}
	for _, x := range h.after {
		approver := is(m.approvers, x.who) && x.who != h.asker
		waits := begins < 0 && x.at < decideBy && !ended
		open := emergency && len(approved) == 0 // to be signed off, though it may have ended
		switch {
		case refused:
		case x.kind == ledger.Approved && approver && !approved[x.who] && (waits || open):
			approved[x.who] = true
			if len(approved) == m.approvals && !emergency {
				begin(max(x.at, 0))
			}
		case x.kind == ledger.Refused && approver && (waits || open):
			refused = true
			if begins >= 0 {
				over = max(begins, min(over, x.at))
			}
		case x.kind == ledger.Finished && (x.who == h.asker || is(m.approvers, x.who) || x.who == "dee") &&
			!ended && (waits || begins >= 0 && x.at < over):
			ended = true
			if begins >= 0 {
				over = max(begins, min(over, x.at))
			}
		}
	}
	return begins >= 0 && begins <= minute && minute < over
}

func (h history) events(t *testing.T) (out []ledger.Event) {
	at := func(minute int) ledger.Time { return ledger.Time(start + clock.Instant(minute)*clock.Minute) }
	add := func(kind ledger.Kind, who string, minute int, body any) ledger.Event {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		e := ledger.Event{
			Number: int64(len(out) + 1),
			Statement: ledger.Statement{Ledger: "here", Time: at(minute), Actor: who,
				Kind: kind, Body: text},
			About: 1,
		}
		out = append(out, e)
		return e
	}
	body := ledger.RequestBody{
		Grant:     "g",
		Seconds:   int64(h.minutes) * 60,
		DecideBy:  at(h.decideBy),
		Emergency: h.emergency,
	}
	if h.wished > 0 {
		wished := at(h.wished)
		body.Starts = &wished
	}
	made := add(ledger.Requested, h.asker, 0, body)
	for _, x := range h.after {
		add(x.kind, x.who, x.at, ledger.DecisionBody{Request: made.ID()})
	}
	return out
}

// What a ledger's loans are is what the plain rules say, minute by minute, whatever order events stand in and whatever
// the files have become.
func TestLoansAreWhatThePlainRulesSay(t *testing.T) {
	counts := map[bool]int{}
	histories := 10_000
	if testing.Short() {
		histories = 1000
	}
	gates := map[string]*gate.Gate{}
	for seed := range uint64(histories) {
		d := rand.New(rand.NewPCG(seed, 3))
		pick := func(of ...int) int { return of[d.IntN(len(of))] }
		m := terms{there: d.IntN(20) > 0, longest: pick(30, 60, 120), patience: pick(60, 240), approvals: d.IntN(3),
			approvers: [][]string{{"cai"}, {"cai", "dee"}, {"ana", "bo", "cai"}}[d.IntN(3)], emergency: d.IntN(2) == 0,
			ends: pick(0, 0, 0, 45)}
		h := history{minutes: pick(10, 60, 120), wished: pick(0, 0, 30), decideBy: pick(60, 240), emergency: d.IntN(3) == 0,
			asker: []string{"ana", "bo"}[d.IntN(2)]}
		at := 0
		for range d.IntN(6) {
			at = max(0, at+pick(-5, 0, 5, 20, 70)) // clocks of several machines go apart
			h.after = append(h.after, happening{at, []string{"ana", "bo", "cai", "cai", "dee"}[d.IntN(5)],
				[]ledger.Kind{ledger.Approved, ledger.Approved, ledger.Refused, ledger.Finished}[d.IntN(4)]})
		}
		g := gates[m.policy()]
		if g == nil {
			g = compile(t, m.policy())
			gates[m.policy()] = g
		}
		b := lending.Book{Gate: g, Ledgers: map[string]bool{"here": true}}
		events := h.events(t)
		elevations := lending.Elevations([]*lending.Request{b.Read(events)})
		then := b
		then.Until = start + clock.Instant(pick(-5, 0, 5, 20, 70, 100))*clock.Minute
		before := slices.DeleteFunc(slices.Clone(events), func(e ledger.Event) bool {
			return clock.Instant(e.Time) > then.Until
		})
		require.Equal(t, b.Read(before), then.Read(events), "seed %d, as it stood", seed)
		for minute := 0; minute < 400; minute += 5 {
			now := start + clock.Instant(minute)*clock.Minute
			is := len(elevations) > 0 && elevations[0].From <= now && now < elevations[0].To
			want := h.inForce(m, minute)
			counts[want]++
			require.Equal(t, want, is, "seed %d, minute %d: %+v %+v", seed, minute, m, h)
		}
	}
	assert.Greater(t, counts[true], histories/2, counts)
}

const offered = `hidden-gate: 1
systems: {db: {kind: database, resources: {a: {type: table}, b: {type: table}}}, net: {kind: network-console}}
people: {ana: {}, bo: {}, cai: {}, dee: {}, eli: {}, gone: {status: left},
  off: {away: {starts: 2027-01-15T08:30, ends: 2027-01-16}}}
groups: {crew: {members: [ana, bo, gone, off]}, heads: {members: [cai, dee]}}
roles:
  r: {allow: [table.drop, table.view]}
  s: {allow: [table.insert]}
  few: {allow: [table.update], at-most: 1}
separations: {apart: {roles: [r, s], within: person}}
grants:
  plain: {to: group:crew, role: r, on: db, on-request: {longest: 2h, approvers: group:heads, approvals: 1,
    reason: true}}
  free: {to: group:crew, role: r, on: db, on-request: {longest: 1h, ticket: true}}
  stands: {to: bo, role: s, on: db}
  counted: {to: group:crew, role: few, on: db, on-request: {longest: 1h}}
  alone: {to: cai, role: few, on: db, on-request: {longest: 1h, approvers: cai, approvals: 1}}
  over: {to: ana, role: r, on: db, ends: 2020-01-01, on-request: {longest: 1h}}
`

func TestWhatIsNotLentSaysWhy(t *testing.T) {
	b := lending.Book{Gate: compile(t, offered), Ledgers: map[string]bool{"here": true}}
	place := func(text string) estate.Address {
		a, err := estate.ParseAddress(text)
		require.NoError(t, err)
		return a
	}
	later := start + clock.Hour
	for _, c := range []struct {
		name, why string
		ask       lending.Asking
	}{
		{"fine", "", lending.Asking{Grant: "plain", Reason: "x"}},
		{"in a place", "", lending.Asking{Grant: "plain", Reason: "x", Within: place("db:a")}},
		{"later", "", lending.Asking{Grant: "plain", Reason: "x", Starts: &later}},
		{"no grant", "there is no grant", lending.Asking{Grant: "none"}},
		{"it stands", "stands", lending.Asking{Grant: "stands", Who: estate.Principal{ID: "bo"}}},
		{"not theirs", "is not for eli", lending.Asking{Grant: "plain", Reason: "x", Who: estate.Principal{ID: "eli"}}},
		{"has left", "is not active", lending.Asking{Grant: "plain", Reason: "x", Who: estate.Principal{ID: "gone"}}},
		{"away by then", "is not active when", lending.Asking{Grant: "plain", Reason: "x", Starts: &later,
			Who: estate.Principal{ID: "off"}}},
		{"too long", "at most 2h", lending.Asking{Grant: "plain", Reason: "x", Lasts: 3 * time.Hour}},
		{"no reason", "says why", lending.Asking{Grant: "plain"}},
		{"no ticket", "for a ticket", lending.Asking{Grant: "free"}},
		{"no emergency", "not lent in emergencies", lending.Asking{Grant: "plain", Reason: "x", Emergency: true}},
		{"elsewhere", "gives nothing in net", lending.Asking{Grant: "plain", Reason: "x", Within: place("net")}},
		{"apart", "keeps its roles apart", lending.Asking{Grant: "plain", Reason: "x", Who: estate.Principal{ID: "bo"}}},
		{"nobody else", "nobody could lend it", lending.Asking{Grant: "alone", Who: estate.Principal{ID: "cai"}}},
		{"over", "comes before it would begin", lending.Asking{Grant: "over"}},
		{"counted", "", lending.Asking{Grant: "counted"}},
		{"full", "role few is held by 1 in that time", lending.Asking{Grant: "counted", Others: []*lending.Request{
			{GrantID: "counted", Subject: estate.Principal{ID: "bo"}, Begins: start, Over: start + clock.Hour}}}},
		{"full before", "", lending.Asking{Grant: "counted", Others: []*lending.Request{
			{GrantID: "counted", Subject: estate.Principal{ID: "bo"}, Begins: start - clock.Hour, Over: start}}}},
	} {
		ask := c.ask
		ask.Now = start
		if ask.Who.ID == "" {
			ask.Who = estate.Principal{ID: "ana"}
		}
		if ask.Lasts == 0 {
			ask.Lasts = time.Hour
		}
		o, err := b.Offer(ask)
		if c.why == "" {
			require.NoError(t, err, c.name)
			assert.NotEmpty(t, o.Operations, c.name)
			continue
		}
		require.ErrorContains(t, err, c.why, c.name)
	}
}

// An event counts with the signature of its author alone, where signatures are required, and for this ledger alone.
func TestWhatIsNotSignedCountsForNothing(t *testing.T) {
	m := terms{there: true, longest: 60, patience: 60, approvers: []string{"cai"}}
	events := history{minutes: 60, decideBy: 60, asker: "ana"}.events(t)
	b := lending.Book{Gate: compile(t, m.policy()), Ledgers: map[string]bool{"here": true}}
	require.NotNil(t, b.Read(events))
	b.Ledgers = map[string]bool{"elsewhere": true}
	require.Nil(t, b.Read(events))
	b = lending.Book{Gate: compile(t, m.policy()+"signing: required\n"), Ledgers: map[string]bool{"here": true}}
	require.Nil(t, b.Read(events))
}
