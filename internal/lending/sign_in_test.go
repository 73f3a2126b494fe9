package lending_test

import (
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

const signingIn = `hidden-gate: 1
edition: 2
passwords: {longest: 10d, first: 2h}
systems:
  app: {kind: application, resources: {accounts/ana: {owner: ana}, accounts/eve: {owner: eve},
      accounts/bot: {owner: "service:bot"}}}
people: {ana: {}, bo: {}, cai: {}, eve: {status: invited}}
services: {bot: {}}
roles: {help: {allow: account.set-password}, look: {allow: content.view}}
grants: {help: {to: bo, role: help, on: app}}
`

// signIns takes events, numbered as they come.
func signIns(t *testing.T, policy string, events ...ledger.Event) (*lending.SignIns, []ledger.Event) {
	b := &lending.Book{Gate: compile(t, policy), Ledgers: map[string]bool{"here": true}}
	s := b.SignIns()
	for i := range events {
		events[i].Number = int64(i + 1)
		s.Take(events[i])
	}
	return s, events
}

func address(text string) estate.Address {
	a, err := estate.ParseAddress(text)
	if err != nil {
		panic(err)
	}
	return a
}

func minutes(n int) clock.Instant { return start + clock.Instant(n)*clock.Minute }

// A second factor and a token are given by whoever holds the account or may set its password, and nobody else.
func TestWhoMayEquipAnAccount(t *testing.T) {
	factor := func(who, account, holder string) ledger.Event {
		return said(t, 0, ledger.FactorSet, who, 0, ledger.FactorBody{Account: account, For: holder, Codes: 8})
	}
	token := func(who, account, holder string) ledger.Event {
		return said(t, 0, ledger.TokenMade, who, 0, ledger.TokenBody{Account: account, For: holder, Token: "T1",
			Hash: credential.HashOf("x"), Ends: ledger.Time(minutes(60))})
	}
	for _, c := range []struct {
		who, account, holder string
		counts               bool
	}{
		{"ana", "app:accounts/ana", "ana", true},
		{"bo", "app:accounts/ana", "ana", true},
		{"cai", "app:accounts/ana", "ana", false},
		{"ana", "app:accounts/bot", "service:bot", false},
		{"service:bot", "app:accounts/bot", "service:bot", true},
		{"bo", "app:accounts/ana", "cai", false}, // it is somebody else's
		{"bo", "app:accounts/nobody", "nobody", false},
		{"", "app:accounts/ana", "ana", false},
	} {
		s, _ := signIns(t, signingIn, factor(c.who, c.account, c.holder), token(c.who, c.account, c.holder))
		assert.Equal(t, c.counts, len(s.Factors) == 1, "%+v", c)
		assert.Equal(t, c.counts, len(s.TokensOf("app", minutes(1))) == 1, "%+v", c)
	}
	elsewhere := factor("ana", "app:accounts/ana", "ana")
	elsewhere.Ledger = "there"
	s, _ := signIns(t, signingIn, elsewhere)
	assert.Empty(t, s.Factors)
	s, _ = signIns(t, signingIn, factor("ana", "app:accounts/ana", "ana"),
		said(t, 0, ledger.FactorSet, "bo", 1, ledger.FactorBody{Account: "app:accounts/ana", For: "ana", Removed: true}))
	assert.Empty(t, s.Factors)
	s, _ = signIns(t, "signing: required\n"+signingIn, factor("ana", "app:accounts/ana", "ana"),
		token("ana", "app:accounts/ana", "ana"))
	assert.Empty(t, s.Factors, "it is not signed")
	assert.Empty(t, s.Tokens)
}

// A token lasts as long as it says and the settings let it, ends when anybody says so, and gives way to the one that
// follows it.
func TestHowLongATokenCounts(t *testing.T) {
	token := func(who, id, replaces string, minute int, lasts time.Duration, roles ...string) ledger.Event {
		return said(t, 0, ledger.TokenMade, who, minute, ledger.TokenBody{Account: "app:accounts/ana", For: "ana", Token: id,
			Hash: credential.HashOf(id), Roles: roles, Replaces: replaces, Overlap: 600,
			Ends: ledger.Time(minutes(minute) + clock.Instant(lasts.Microseconds()))})
	}
	s, _ := signIns(t, signingIn, token("ana", "T1", "", 0, time.Hour), token("ana", "T2", "", 0, 1000*time.Hour),
		token("ana", "T2", "", 5, time.Hour, "look"), // there is one of that id already
		token("ana", "T3", "T1", 30, time.Hour), token("cai", "T4", "T2", 31, time.Hour),
		token("ana", "T5", "", 0, time.Hour, "gone"),
		said(t, 0, ledger.TokenEnded, "", 50, ledger.TokenEndedBody{Token: "T3"}))
	ids := func(minute int) (out []string) {
		for _, t := range s.TokensOf("app", minutes(minute)) {
			out = append(out, t.ID)
		}
		return out
	}
	assert.Equal(t, []string{"T1", "T2"}, ids(29), "T5 names a role that is gone")
	assert.Equal(t, []string{"T1", "T2", "T3"}, ids(39))
	assert.Equal(t, []string{"T2", "T3"}, ids(40), "T1 was followed ten minutes ago")
	assert.Equal(t, []string{"T2"}, ids(50), "T3 was ended")
	assert.Equal(t, []string{"T2"}, ids(10*24*60-1))
	assert.Empty(t, ids(10*24*60), "the settings say so")
	assert.Empty(t, s.Tokens["T2"].Roles)
	for _, wrong := range []ledger.TokenBody{{Token: "T", Hash: "x"}, {Token: "t", Hash: credential.HashOf("x")},
		{Token: "T\n", Hash: credential.HashOf("x")}, {Token: "", Hash: credential.HashOf("x")}} {
		wrong.Account, wrong.For, wrong.Ends = "app:accounts/ana", "ana", ledger.Time(minutes(60))
		s, _ := signIns(t, signingIn, said(t, 0, ledger.TokenMade, "ana", 0, wrong))
		assert.Empty(t, s.Tokens, "%+v", wrong)
	}
	assert.Empty(t, s.TokensOf("other", minutes(1)))
	assert.True(t, s.HasToken("app", estate.Principal{ID: "ana"}, minutes(1)))
	assert.False(t, s.HasToken("app", estate.Principal{ID: "bo"}, minutes(1)))
}

// Somebody joins once, by the code of an invitation that is open, as whom it names, and with what whoever invited them
// could have set.
func TestWhoJoinsByAnInvitation(t *testing.T) {
	const code = "ABCD-EFGH"
	verifier, err := credential.VerifierIn(credential.Argon2id, "a password of mine")
	require.NoError(t, err)
	invites := func(who string) ledger.Event {
		return said(t, 0, ledger.Invited, who, 0, ledger.InvitationBody{Person: "eve",
			Hash: credential.HashOf(credential.HashOf(code)), Ends: ledger.Time(minutes(60))})
	}
	joins := func(invitation ledger.Event, who, proof string, minute int, account string) ledger.Event {
		return said(t, 0, ledger.Joined, who, minute, ledger.JoinedBody{Invitation: ledger.Other{Number: 1,
			ID: invitation.ID()}, Proof: proof, Passwords: []ledger.PasswordBody{{Account: account, For: who,
			Verifier: verifier, Ends: ledger.Time(minutes(100_000))}},
			Factors: []ledger.FactorBody{{Account: account, For: who, Codes: 8}}})
	}
	proof, account := credential.HashOf(code), address("app:accounts/eve")
	for what, c := range map[string]struct {
		inviter, who, proof, account string
		minute                       int
		joined, sets                 bool
	}{
		"as it should be":            {"bo", "eve", proof, "app:accounts/eve", 59, true, true},
		"too late":                   {"bo", "eve", proof, "app:accounts/eve", 60, false, false},
		"another code":               {"bo", "eve", credential.HashOf("x"), "app:accounts/eve", 1, false, false},
		"the code's hash of hashes":  {"bo", "eve", credential.HashOf(proof), "app:accounts/eve", 1, false, false},
		"somebody else":              {"bo", "cai", proof, "app:accounts/eve", 1, false, false},
		"whose inviter may set none": {"cai", "eve", proof, "app:accounts/eve", 1, true, false},
		"for another's account":      {"bo", "eve", proof, "app:accounts/ana", 1, true, false},
		"invited by nobody":          {"", "eve", proof, "app:accounts/eve", 1, false, false},
	} {
		invitation := invites(c.inviter)
		s, _ := signIns(t, signingIn, invitation, joins(invitation, c.who, c.proof, c.minute, c.account))
		i := s.InvitationOf(estate.Principal{ID: "eve"})
		assert.Equal(t, c.joined, i == nil && c.inviter != "", what)
		if p := s.Passwords[account]; assert.Equal(t, c.sets, p != nil, what) && c.sets {
			assert.False(t, p.First, "it is their own")
			assert.Equal(t, minutes(c.minute+10*24*60), p.Ends, "the settings say so")
			assert.NotNil(t, s.Factors[account])
		}
	}
	open, _ := signIns(t, signingIn, invites("bo"))
	for minute, why := range map[int]string{59: "", 60: "has lapsed"} {
		i, err := open.MayJoin(proof, minutes(minute))
		if why != "" {
			assert.ErrorContains(t, err, why)
		} else if assert.NoError(t, err) {
			assert.Equal(t, "eve", i.Person.ID)
		}
	}
	_, err = open.MayJoin(credential.HashOf("x"), minutes(1))
	assert.ErrorContains(t, err, "no invitation with this code")
	active, _ := signIns(t, strings.Replace(signingIn, "eve: {status: invited}", "eve: {}", 1), invites("bo"))
	_, err = active.MayJoin(proof, minutes(1))
	assert.ErrorContains(t, err, "not invited any more")
	invitation := invites("bo")
	s, _ := signIns(t, signingIn, invitation, joins(invitation, "eve", proof, 1, "app:accounts/eve"),
		joins(invitation, "eve", proof, 2, "app:accounts/eve"))
	assert.Equal(t, minutes(1), s.Passwords[account].At, "a code counts once")
}

// What a push handed out, and what was set, lets in until it ends.
func TestWhoHasAPassword(t *testing.T) {
	verifier, err := credential.VerifierIn(credential.SCRAM, "a password of hers")
	require.NoError(t, err)
	s, _ := signIns(t, signingIn,
		said(t, 0, ledger.PasswordSet, "bo", 0, ledger.PasswordBody{Account: "app:accounts/ana", For: "ana",
			Verifier: verifier, First: true, Ends: ledger.Time(minutes(100_000))}),
		said(t, 0, ledger.Pushed, "bo", 1, ledger.PushedBody{System: "app", Passwords: []int64{1},
			First: []string{"app:accounts/bot", "db:accounts/ana", "no address"}}))
	ana, bot := estate.Principal{ID: "ana"}, estate.Principal{Kind: estate.IsService, ID: "bot"}
	assert.True(t, s.HasPassword("app", ana, minutes(119)))
	assert.False(t, s.HasPassword("app", ana, minutes(120)), "one that somebody else set lets in for two hours here")
	assert.True(t, s.HasPassword("app", bot, minutes(200)))
	assert.False(t, s.HasPassword("db", ana, minutes(1)))
	password := s.Passwords[address("app:accounts/ana")]
	assert.True(t, s.WasTold(password))
	elsewhere := *password
	elsewhere.Account.System = "db"
	assert.False(t, s.WasTold(&elsewhere), "of the passwords of one event each system is told its own")
	assert.Equal(t, []estate.Address{address("app:accounts/ana")}, s.WithPassword(minutes(1)))
	assert.Empty(t, s.WithPassword(minutes(120)))
}
