package survey_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/survey"
)

const telescopes = `hidden-gate: 1
systems: {dish: {kind: device-console, precedence: [keeper, lead]}, other: {kind: device-console}}
people: {ana: {}, bo: {}, cai: {}, dee: {}}
roles:
  keeper: {allow: [control.take]}
  lead: {allow: [control.take]}
  head: {include: [lead], allow: [unit.view]}
  guest: {allow: [control.take]}
  looker: {allow: [unit.view]}
grants:
  a: {to: ana, role: guest, on: everything}
  b: {to: bo, roles: [looker, head], on: everything}
  c: {to: cai, role: keeper, on: dish, when: {mfa: true}}
  d: {to: [ana, dee], role: guest, on: other}
`

func TestWhoGetsWhatOneAloneMayHave(t *testing.T) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(telescopes)}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	for _, c := range []struct {
		where, holder string
		who           []string
		mfa           bool
		want, role    string
		rule          survey.Rule
	}{
		{"dish", "", []string{"ana", "bo", "cai"}, true, "cai", "keeper", survey.Precedence},
		{"dish", "", []string{"ana", "bo", "cai"}, false, "bo", "lead", survey.Precedence}, // head includes lead
		// holding is no help against a better role
		{"dish", "ana", []string{"ana", "bo"}, false, "bo", "lead", survey.Precedence},
		{"dish", "", []string{"ana", "cai"}, false, "ana", "guest", survey.Alone},
		{"dish", "", []string{"dee", "cai"}, false, "", "", survey.NobodyMay},
		{"other", "", []string{"dee", "ana"}, false, "dee", "guest", survey.First},
		{"other", "ana", []string{"dee", "ana"}, false, "ana", "guest", survey.Keeps},
		{"other", "ana", []string{"dee", "bo"}, false, "dee", "guest", survey.First},
	} {
		var who []estate.Principal
		for _, id := range c.who {
			who = append(who, estate.Principal{ID: id})
		}
		var holder *estate.Principal
		if c.holder != "" {
			holder = &estate.Principal{ID: c.holder}
		}
		ctx := g.NewContext()
		ctx.Flag(estate.FactNamed("mfa"), c.mfa)
		of := survey.Contested{Operation: "control.take", Resource: e.Listed(estate.Address{System: c.where}), Context: ctx,
			Who: who, InTurn: true, Holder: holder}
		all, rule, err := survey.Contest(g, of)
		require.NoError(t, err)
		of.InTurn = false
		unordered, other, err := survey.Contest(g, of)
		require.NoError(t, err)
		if rule == survey.First {
			require.Equal(t, survey.Tied, other, "where nobody is known to have asked first, nobody gets it: %v", c)
			require.Greater(t, len(survey.Leading(unordered)), 1)
		} else {
			require.Equal(t, rule, other, c)
		}
		require.Equal(t, c.rule, rule, c)
		if c.want != "" {
			require.Equal(t, c.want, all[0].Who.ID, c)
			require.Equal(t, c.role, all[0].Role, c)
		}
	}
}
