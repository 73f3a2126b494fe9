package finding

import (
	"encoding/json"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/clock"
	"hiddengate/internal/credential"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/ledger"
	"hiddengate/internal/lending"
	"hiddengate/internal/policyfile"
)

// signedIn runs the findings on a policy and what was set since, each a minute after the one before.
func signedIn(t *testing.T, policy string, set ...ledger.Event) (codes map[string][]string) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(policy)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	now, err := clock.UTC.ParseTime("2026-11-23T12:00Z")
	require.NoError(t, err)
	s := (&lending.Book{Gate: g, Ledgers: map[string]bool{"here": true}}).SignIns()
	for i, one := range set {
		one.Number, one.Ledger, one.Time = int64(i+1), "here", ledger.Time(now-clock.Instant(len(set)-i)*clock.Minute)
		s.Take(one)
	}
	found, err := RunWith(t.Context(), g, now, nil, s)
	require.NoError(t, err)
	codes = map[string][]string{}
	for _, f := range found {
		codes[f.Code] = append(codes[f.Code], f.Message)
	}
	return codes
}

func did(t *testing.T, kind ledger.Kind, who string, body any) ledger.Event {
	text, err := json.Marshal(body)
	require.NoError(t, err)
	return ledger.Event{Statement: ledger.Statement{Kind: kind, Actor: who, Body: text}}
}

func passwordOf(t *testing.T, account, who string) ledger.Event {
	verifier, err := credential.VerifierIn(credential.SCRAM, "a password of hers")
	require.NoError(t, err)
	return did(t, ledger.PasswordSet, who, ledger.PasswordBody{Account: account, For: who, Verifier: verifier,
		Ends: ends})
}

// ends is long after what is looked at.
var ends = ledger.Time(clock.Instant(2_000_000_000) * clock.Second)

const entering = `hidden-gate: 1
edition: 2
systems:
  app: {kind: application, sign-in: SIGN, resources: {accounts/ana: {owner: ana}, accounts/bo: {owner: bo}}}
  other: {kind: application}
people: {ana: {}, bo: {keys: ["` + keyOne + `"]}, cai: {}, gone: {status: left}, eve: {status: invited}}
groups: {crew: {members: [ana, bo, gone]}}
roles:
  own: {allow: account.set-password}
  steer: {allow: role.alter}
  look: {allow: content.view}
grants:
  own: {to: everyone, role: own, on: app, when: {owner: true}}
  crew-looks: {to: group:crew, role: look, on: app}
  cai-looks: {to: cai, role: look, on: other}
`

// Who has a grant in a system that says how people sign in, and has none of that, is told of.
func TestWhoHasNothingToSignInWith(t *testing.T) {
	const nothing = " can sign in to app by nothing that is known here, and a grant gives them something there"
	token := did(t, ledger.TokenMade, "ana", ledger.TokenBody{Account: "app:accounts/ana", For: "ana", Token: "T",
		Hash: credential.HashOf("x"), Ends: ends})
	for _, c := range []struct {
		ways string
		want []string
		set  []ledger.Event
	}{
		{"[password]", []string{"ana, bo" + nothing}, nil},
		{"[password, key]", []string{"ana" + nothing}, nil},
		{"[passkey, password]", nil, nil},
		{"[password, key]", nil, []ledger.Event{passwordOf(t, "app:accounts/ana", "ana")}},
		{"[key, password]", nil, []ledger.Event{did(t, ledger.Pushed, "bo", ledger.PushedBody{System: "app",
			First: []string{"app:accounts/ana"}})}},
		{"[token, key]", nil, []ledger.Event{token}},
		{"[token, key]", []string{"ana" + nothing}, []ledger.Event{token,
			did(t, ledger.TokenEnded, "ana", ledger.TokenEndedBody{Token: "T"})}},
	} {
		assert.Equal(t, c.want, signedIn(t, replaced(t, entering, "SIGN", c.ways), c.set...)["no-sign-in"], c.ways)
	}
	assert.Empty(t, signedIn(t, replaced(t, entering, "sign-in: SIGN, ", ""))["no-sign-in"])
}

func replaced(t *testing.T, text, was, is string) string {
	require.Contains(t, text, was)
	return strings.Replace(text, was, is, 1)
}

// Whoever has a password alone and may do what asks for care is told of, unless the grant asks for a second factor.
func TestWhoShouldHaveASecondFactor(t *testing.T) {
	policy := func(more string) string {
		return replaced(t, entering, "sign-in: SIGN, ", "") + "  steer: {to: group:crew, role: steer, on: app" + more + "}\n"
	}
	set := []ledger.Event{passwordOf(t, "app:accounts/ana", "ana")}
	alone := []string{"ana signs in to app with a password alone, and grant steer gives role.alter there"}
	assert.Equal(t, alone, signedIn(t, policy(""), set...)["no-second-factor"])
	assert.Equal(t, alone, signedIn(t, policy(", when: {mfa: false}"), set...)["no-second-factor"])
	assert.Empty(t, signedIn(t, policy(", when: {mfa: true}"), set...)["no-second-factor"])
	assert.Empty(t, signedIn(t, policy(", ends: 2020-01-01"), set...)["no-second-factor"])
	assert.Empty(t, signedIn(t, policy(""))["no-second-factor"])
	assert.Empty(
		t,
		signedIn(t, replaced(t, policy(""), "role: steer, on: app", "role: steer, on: other"), set...)["no-second-factor"],
	)
	factor := did(t, ledger.FactorSet, "ana", ledger.FactorBody{Account: "app:accounts/ana", For: "ana", Codes: 8})
	assert.Empty(t, signedIn(t, policy(""), append(set, factor)...)["no-second-factor"])
}

// An invitation by which nobody has joined is told of, and one that lapsed.
func TestAnInvitationIsOpen(t *testing.T) {
	policy := replaced(t, entering, "sign-in: SIGN, ", "")
	invited := func(person, ends string) ledger.Event {
		at, err := clock.UTC.ParseTime(ends)
		require.NoError(t, err)
		return did(t, ledger.Invited, "bo", ledger.InvitationBody{Person: person, Hash: "x", Ends: ledger.Time(at)})
	}
	assert.Equal(t, []string{"person eve can join until 2026-11-25T12:00Z, and has not"},
		signedIn(t, policy, invited("eve", "2026-11-25T12:00Z"))["invitation-open"])
	assert.Equal(t, []string{"the invitation of person eve lapsed on 2026-11-23T11:59:30Z"},
		signedIn(t, policy, invited("eve", "2026-11-23T11:59:30Z"))["invitation-open"])
	assert.Empty(t, signedIn(t, policy, invited("ana", "2026-11-25T12:00Z"))["invitation-open"], "she is there")
	assert.Empty(t, signedIn(t, policy)["invitation-open"])
}

// A group that asks for a certificate which nobody holds is told of.
func TestAMatchThatNoCertificateFits(t *testing.T) {
	policy := replaced(t, entering, "sign-in: SIGN, ", "")
	policy = replaced(t, policy, "groups: {", "groups: {signers: {match: {certificate: {unit: domes}}}, ")
	assert.Equal(t, []string{"group signers asks for a certificate, and none that counts fits"},
		signedIn(t, policy)["no-certificate-fits"])
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(policy)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	assert.Empty(t, g.Members(estate.Subjects{{Principal: estate.Principal{Kind: estate.IsGroup, ID: "signers"}}}))
}
