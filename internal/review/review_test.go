package review_test

import (
	"encoding/json"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/lending"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/review"
)

const policy = `hidden-gate: 1
owner: root
systems: {db: {kind: database, resources: {a: {}, b: {}}}, net: {kind: network-console}}
people: {ana: {}, bo: {}, cai: {}, root: {}}
groups: {crew: {members: [ana, bo]}, heads: {members: [cai, ana]}}
roles: {r: {allow: [schema.view]}, n: {allow: [device.view]}}
grants:
  crew-sees: {to: group:crew, role: r, on: 'db:a'}
  cai-sees: {to: cai, role: r, on: 'db:b'}
  net-sees: {to: group:heads, role: n, on: net}
`

func book(t *testing.T) *lending.Book {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(policy)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	return &lending.Book{Gate: g, Ledgers: map[string]bool{"here": true}}
}

func place(t *testing.T, text string) estate.Resources {
	term, err := estate.ParseResourceTerm(text)
	require.NoError(t, err)
	return estate.Resources{term}
}

func keys(items []ledger.ReviewItem) (out []string) {
	for _, one := range items {
		out = append(out, one.Key)
	}
	return out
}

func TestWhatGivesAccessInAPlaceIsAsked(t *testing.T) {
	b := book(t)
	assert.Equal(t, []string{"grant crew-sees", "membership crew ana", "membership crew bo"},
		keys(review.Items(b.Gate, place(t, "db:a"), nil)))
	assert.Equal(t, []string{"grant cai-sees", "grant crew-sees", "membership crew ana", "membership crew bo"},
		keys(review.Items(b.Gate, place(t, "db"), nil)))
	assert.Empty(t, review.Items(b.Gate, place(t, "net:none"), nil))
}

func TestAnswersCountThatWereTheirsToGive(t *testing.T) {
	b := book(t)
	var events []ledger.Event
	say := func(who string, kind ledger.Kind, body any) ledger.Event {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		e := ledger.Event{Number: int64(len(events) + 1), Statement: ledger.Statement{Ledger: "here", Actor: who, Kind: kind,
			Time: ledger.Time(len(events)), Body: text}}
		events = append(events, e)
		return e
	}
	opened := say("bo", ledger.ReviewOpened, ledger.ReviewBody{On: []string{"db"}, By: []string{"group:heads"},
		Items: review.Items(b.Gate, place(t, "db"), nil)})
	answer := func(who, item, says string) {
		say(who, ledger.ReviewAnswered, ledger.AnswerBody{Review: opened.ID(),
			Answers: []ledger.ItemAnswer{{Item: item, Answer: says}}})
	}
	answer("cai", "grant crew-sees", review.Keep)
	answer("ana", "grant crew-sees", review.End)      // she holds it
	answer("bo", "grant cai-sees", review.End)        // he is no reviewer
	answer("cai", "grant cai-sees", review.Keep)      // his own
	answer("ana", "grant cai-sees", review.End)       // hers to end
	answer("cai", "membership crew ana", review.Keep) // and again below
	answer("cai", "membership crew ana", review.End)
	answer("cai", "grant none", review.End)
	answer("cai", "membership crew bo", "perhaps")
	say("cai", ledger.ReviewClosed, ledger.ClosedBody{}) // not hers to close
	r := review.Read(b, events)
	require.NotNil(t, r)
	says := map[string]string{}
	for key, a := range r.Answers {
		says[key] = a.Says
	}
	assert.Equal(t, map[string]string{"grant crew-sees": review.Keep, "grant cai-sees": review.End,
		"membership crew ana": review.End}, says)
	assert.Equal(t, []string{"membership crew bo"}, r.Left())
	assert.Nil(t, r.Closed)
	for _, who := range []string{"bo", "root"} { // who opened it, and the owner
		closed := slices.Clone(events)
		events = closed
		say(who, ledger.ReviewClosed, ledger.ClosedBody{})
		answer("cai", "membership crew bo", review.Keep) // too late
		r = review.Read(b, events)
		assert.NotNil(t, r.Closed, who)
		assert.Len(t, r.Answers, 3)
		events = closed
	}
}
