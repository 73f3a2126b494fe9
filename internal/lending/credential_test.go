package lending_test

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/lending"
)

// signing is a policy with an authority whose key is at hand.
type signing struct {
	text      string
	authority *credential.Authority
	key       []byte // a holder's public key
}

func newSigning(t *testing.T) *signing {
	key, err := credential.NewKey("ecdsa-p256")
	require.NoError(t, err)
	at := start.Time()
	a, err := credential.MakeAuthority(
		"ca",
		"",
		key,
		credential.Span{From: at.Add(-time.Hour), Until: at.Add(9000 * time.Hour)},
	)
	require.NoError(t, err)
	holder, err := credential.NewKey("ed25519")
	require.NoError(t, err)
	der, err := x509.MarshalPKIXPublicKey(holder.Public())
	require.NoError(t, err)
	return &signing{`hidden-gate: 1
systems: {ca: {kind: authority, anchors: ` + a.String() + `}, db: {kind: database}}
profiles:
  plain: {authority: ca, system: db, longest: 8h, approvals: 1, approvers: [bo, cai, dee]}
  free: {authority: ca, longest: 1h, holders: [ana, bo]}
  open: {authority: ca, longest: 1h, approvals: 1, open: true}
people: {ana: {}, bo: {}, cai: {}, dee: {}, eli: {}, gone: {status: left}}
roles:
  ask: {allow: [credential.request, credential.renew]}
  ask-for: {allow: credential.request-for}
  sign: {allow: [credential.approve, credential.revoke, credential.view]}
  sign-alone: {allow: credential.issue}
grants:
  ask: {to: [ana, bo, cai, gone], role: ask, on: ca}
  ask-for: {to: bo, role: ask-for, on: ca}
  sign: {to: [cai, dee, eli], role: sign, on: ca}
  sign-alone: {to: dee, role: [ask, sign-alone], on: ca}
`, a, der}
}

func (s *signing) book(t *testing.T, change string) *lending.Book {
	return &lending.Book{Gate: compile(t, s.text+change), Ledgers: map[string]bool{"here": true}}
}

// said is an event of somebody, so many minutes after the start.
func said(t *testing.T, number int64, kind ledger.Kind, who string, minute int, body any) ledger.Event {
	text, err := json.Marshal(body)
	require.NoError(t, err)
	return ledger.Event{Number: number, About: 1, Statement: ledger.Statement{Ledger: "here", Actor: who, Kind: kind,
		Time: ledger.Time(start + clock.Instant(minute)*clock.Minute), Body: text}}
}

func (s *signing) asks(t *testing.T, profile, who, holder string, stranger bool) ledger.Event {
	return said(t, 1, ledger.Wanted, who, 0, ledger.RequestBody{Seconds: 4 * 3600,
		DecideBy: ledger.Time(start + 2*clock.Hour), Credential: &ledger.CredentialBody{Profile: profile, For: holder,
			Key: base64.StdEncoding.EncodeToString(s.key), Stranger: stranger}})
}

// issued is the event by which what somebody asked for was signed, whoever it is for and however long.
func (s *signing) issued(t *testing.T, r *lending.Request, by *credential.Authority, minute int) ledger.Event {
	key, err := x509.ParsePKIXPublicKey(r.Credential.Key)
	require.NoError(t, err)
	at := start.Time().Add(time.Duration(minute) * time.Minute)
	der, err := by.Issue(credential.Order{Profile: &estate.Profile{Use: "client"}, Key: key,
		Name: credential.Name{CommonName: r.Subject.ID}, Span: credential.Span{From: at, Until: at.Add(time.Hour)}})
	require.NoError(t, err)
	return said(t, 9, ledger.Issued, "dee", minute, ledger.IssuedBody{Request: r.ID, Authority: "ca",
		Certificate: base64.StdEncoding.EncodeToString(der)})
}

func TestWhoMayAskForACredential(t *testing.T) {
	s := newSigning(t)
	b := s.book(t, "")
	for _, c := range []struct {
		profile, who, holder string
		stranger             bool
		state                lending.State
	}{
		{"plain", "ana", "ana", false, lending.Waiting},
		{"plain", "bo", "ana", false, lending.Waiting},
		{"plain", "ana", "bo", false, lending.Void},     // in the name of another
		{"plain", "eli", "eli", false, lending.Void},    // who may approve, and not ask
		{"plain", "dee", "dee", false, lending.InForce}, // who signs alone
		{"free", "ana", "ana", false, lending.InForce},
		{"free", "cai", "cai", false, lending.Void}, // no holder
		{"open", "", "eli", true, lending.Waiting},
		{"plain", "", "eli", true, lending.Void}, // not open
		{"none", "ana", "ana", false, lending.Void},
		{"plain", "bo", "nobody", false, lending.Void},
	} {
		r := b.Read([]ledger.Event{s.asks(t, c.profile, c.who, c.holder, c.stranger)})
		require.NotNil(t, r, c)
		assert.Equal(t, c.state, r.StateAt(start+clock.Minute), "%+v", c)
	}
	assert.Nil(t, b.Read([]ledger.Event{s.asks(t, "plain", "", "ana", false)}), "nobody asked")
	late := s.asks(t, "plain", "ana", "ana", false)
	late.Ledger = "elsewhere"
	assert.Nil(t, b.Read([]ledger.Event{late}))
}

// A credential ends with its holder, and with its profile.
func TestACredentialEndsWithItsHolderAndItsProfile(t *testing.T) {
	s := newSigning(t)
	for was, is := range map[string]string{"people: {ana: {}": "people: {ana: {ends: 2027-01-15T08:30Z}",
		"longest: 1h, holders": "longest: 1h, ends: 2027-01-15T08:30Z, holders"} {
		require.Contains(t, s.text, was)
		later := &signing{strings.Replace(s.text, was, is, 1), s.authority, s.key}
		r := later.book(t, "").Read([]ledger.Event{s.asks(t, "free", "ana", "ana", false)})
		require.NotNil(t, r)
		ends, err := clock.UTC.ParseTime("2027-01-15T08:30Z")
		require.NoError(t, err)
		assert.Equal(t, ends, r.Over, is)
	}
}

// What is signed counts by the authority's key alone; and what anybody says is revoked does not count.
func TestACredentialCountsByItsSignature(t *testing.T) {
	s := newSigning(t)
	b := s.book(t, "")
	asks := s.asks(t, "plain", "ana", "ana", false)
	approved := said(t, 2, ledger.Approved, "cai", 10, ledger.DecisionBody{Request: asks.ID()})
	r := b.Read([]ledger.Event{asks, approved})
	require.Equal(t, lending.InForce, r.StateAt(start+11*clock.Minute))
	assert.Equal(t, start+10*clock.Minute, r.Begins)
	assert.Equal(t, start+10*clock.Minute+4*clock.Hour, r.Over)
	require.NoError(t, b.MayIssue(r, start+20*clock.Minute))
	events := []ledger.Event{asks, approved, s.issued(t, r, s.authority, 20)}
	r = b.Read(events)
	require.NotNil(t, r.Credential.Issued)
	assert.Equal(t, start+20*clock.Minute, r.Begins)
	assert.Equal(t, start+80*clock.Minute, r.Over)
	assert.Error(t, b.MayIssue(r, start+21*clock.Minute), "once")
	stranger := newSigning(t)
	assert.Nil(t, b.Read([]ledger.Event{asks, approved, s.issued(t, r, stranger.authority, 20)}).Credential.Issued,
		"another authority of the same name")
	other := *r
	credentials := *r.Credential
	other.Credential, credentials.Key = &credentials, stranger.key
	assert.Nil(t, b.Read([]ledger.Event{asks, approved, s.issued(t, &other, s.authority, 20)}).Credential.Issued,
		"for another key")

	revoked := said(t, 10, ledger.Revoked, "nobody", 30, ledger.RevokedBody{Request: asks.ID(), Reason: "key-compromise"})
	r = b.Read(append(events, revoked))
	assert.Equal(t, start+30*clock.Minute, r.Over)
	assert.Equal(t, lending.Ended, r.StateAt(start+31*clock.Minute))
	for _, c := range []struct{ was, is, reason string }{
		{"", "", ""},
		{"ana: {}", "ana: {status: left}", "affiliation-changed"},
		{"ana: {}", "ana: {ends: 2020-01-01}", "affiliation-changed"},
		{"ana: {}", "ana: {status: suspended}", "certificate-hold"},
		{"[bo, cai, dee]}", "[bo, cai, dee], holders: bo}", "privilege-withdrawn"},
		{"  plain:", "  other:", "cessation-of-operation"},
	} {
		later := &signing{strings.Replace(s.text, c.was, c.is, 1), s.authority, s.key}
		book := later.book(t, "")
		got, why := book.Barring(book.Read(events), start+31*clock.Minute)
		assert.Equal(t, c.reason, got, c.is)
		assert.Equal(t, c.reason == "", why == "")
	}
}

// Nothing is renewed without approvals but a credential of one's own that holds; one that is for a loan ends with it.
func TestWhatFollowsAnother(t *testing.T) {
	s := newSigning(t)
	lends := "  lent: {to: ana, role: sign, on: ca, on-request: {longest: 2h}}\n"
	first := s.asks(t, "plain", "ana", "ana", false)
	b := s.book(t, lends)
	held := []ledger.Event{first, s.issued(t, b.Read([]ledger.Event{first}), s.authority, 20)}
	revoked := append(slices.Clone(held), said(t, 10, ledger.Revoked, "ana", 25, ledger.RevokedBody{Request: first.ID()}))
	others := s.asks(t, "plain", "bo", "bo", false)
	theirs := []ledger.Event{others, s.issued(t, b.Read([]ledger.Event{others}), s.authority, 20)}
	loan := said(t, 1, ledger.Requested, "ana", 0, ledger.RequestBody{Grant: "lent", Seconds: 3600,
		DecideBy: ledger.Time(start + clock.Hour)})
	again := func(minute int, number int64, renews, loan *ledger.Other) ledger.Event {
		e := said(t, number, ledger.Wanted, "ana", minute, ledger.RequestBody{Seconds: 3600,
			DecideBy: ledger.Time(start + 9*clock.Hour), Credential: &ledger.CredentialBody{Profile: "plain", For: "ana",
				Key: base64.StdEncoding.EncodeToString(s.key), Renews: renews, Loan: loan}})
		e.About = number
		return e
	}
	for name, c := range map[string]struct {
		about  []ledger.Event
		minute int
		number int64
		id     string
		state  lending.State
	}{
		"it holds":                     {held, 30, 20, first.ID(), lending.InForce},
		"it has ended":                 {held, 90, 20, first.ID(), lending.Waiting},
		"it is not yet":                {held, 10, 20, first.ID(), lending.Waiting},
		"not signed":                   {held[:1], 30, 20, first.ID(), lending.Waiting},
		"another of that number":       {held, 30, 20, others.ID(), lending.Waiting},
		"revoked":                      {revoked, 30, 20, first.ID(), lending.Waiting},
		"somebody else's":              {theirs, 30, 20, others.ID(), lending.Waiting},
		"none":                         {nil, 30, 20, first.ID(), lending.Waiting},
		"one that comes":               {held, 30, 1, first.ID(), lending.Waiting},
		"a loan, and not a credential": {[]ledger.Event{loan}, 30, 20, loan.ID(), lending.Waiting},
	} {
		b := s.book(t, lends)
		b.About = func(int64) ([]ledger.Event, error) { return c.about, nil }
		r := b.Read([]ledger.Event{again(c.minute, c.number, &ledger.Other{Number: 1, ID: c.id}, nil)})
		require.NotNil(t, r, name)
		assert.Equal(t, c.state, r.StateAt(r.Made+clock.Minute), name)
	}
	b.About = func(int64) ([]ledger.Event, error) { return []ledger.Event{loan}, nil }
	r := b.Read([]ledger.Event{again(10, 20, nil, &ledger.Other{Number: 1, ID: loan.ID()})})
	assert.Equal(t, start+clock.Hour, r.Credential.LoanEnds)
	reason, _ := b.Barring(r, start+59*clock.Minute)
	assert.Empty(t, reason)
	reason, _ = b.Barring(r, start+60*clock.Minute)
	assert.Equal(t, "privilege-withdrawn", reason)
	b.About = nil
	reason, _ = b.Barring(
		b.Read([]ledger.Event{again(10, 20, nil, &ledger.Other{Number: 1, ID: loan.ID()})}),
		start+11*clock.Minute,
	)
	assert.Equal(t, "privilege-withdrawn", reason, "what is in doubt does not count")
}

// Whatever is said of a request for a credential, by whom and in which order, it is signed with as many approvals of
// others as it needs, in its time, and counts from then on as the plain rules say.
func TestCredentialsAreWhatThePlainRulesSay(t *testing.T) {
	s := newSigning(t)
	b := s.book(t, "")
	counts := map[bool]int{}
	for seed := range uint64(2000) {
		d := rand.New(rand.NewPCG(seed, 17))
		asker := []string{"ana", "bo", "cai"}[d.IntN(3)]
		holder := asker
		if asker == "bo" && d.IntN(2) == 0 {
			holder = []string{"ana", "cai"}[d.IntN(2)]
		}
		asks := s.asks(t, "plain", asker, holder, false)
		events, approved, over, done := []ledger.Event{asks}, -1, -1, false
		for i, minute := 0, 0; i < 5; i++ {
			minute += d.IntN(80)
			who := []string{"ana", "bo", "cai", "dee", "eli"}[d.IntN(5)]
			kind := []ledger.Kind{ledger.Approved, ledger.Approved, ledger.Refused, ledger.Finished}[d.IntN(4)]
			events = append(events, said(t, int64(i+2), kind, who, minute, ledger.DecisionBody{Request: asks.ID()}))
			signs := (who == "cai" || who == "dee") && who != asker && who != holder
			waits := approved < 0 && minute < 120
			switch {
			case done:
			case kind == ledger.Approved && signs && waits:
				approved, over = minute, minute+240
			case kind == ledger.Refused && (signs || who == "cai" && asker != "cai") && waits:
				done = true
			case kind == ledger.Finished && (who == asker || who == holder || (who == "cai" || who == "dee")) &&
				(waits || approved >= 0 && minute < over):
				done, over = true, min(over, minute)
			}
		}
		r := b.Read(events)
		for minute := 0; minute < 400; minute += 7 {
			now := start + clock.Instant(minute)*clock.Minute
			want := approved >= 0 && approved <= minute && minute < over
			counts[want]++
			require.Equal(t, want, r.StateAt(now) == lending.InForce, "seed %d, minute %d", seed, minute)
		}
	}
	assert.Greater(t, counts[true], 5000)
}
