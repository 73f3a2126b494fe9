package escalation_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/escalation"
	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/verify"
)

// Who can have a stranger's name signed acts as whom a profile's credentials name, in the system into which they let.
func TestWhoSignsActsInTheSystem(t *testing.T) {
	for _, c := range []struct {
		what, profile, grants, who, resource string
		want                                 string // how, "" if they cannot
	}{
		{"signing alone", "", "a: {to: p0, role: issue, on: ca}", "p0", "one:x", "acts as p1"},
		{"signing alone, elsewhere", "", "a: {to: p0, role: issue, on: ca}", "p0", "two:z", ""},
		{"signing for one profile of others", "", "a: {to: p0, role: issue, on: 'ca:other'}", "p0", "one:x", ""},
		{"approving what nobody asks", "", "a: {to: p0, role: approve, on: ca}", "p0", "one:x", ""},
		{"approving what somebody may ask in another's name", "",
			"a: {to: p0, role: approve, on: ca}, b: {to: p2, role: ask-for, on: 'ca:door'}", "p0", "one:x", "acts as p1"},
		{"approving what somebody may ask at another profile", "",
			"a: {to: p0, role: approve, on: ca}, b: {to: p2, role: ask-for, on: 'ca:other'}", "p0", "one:x", ""},
		{"approving what strangers may ask", ", open: true, approvals: 1", "a: {to: p0, role: approve, on: ca}", "p0",
			"one:x", "acts as p1"},
		{"signing for holders", ", holders: p1", "a: {to: p0, role: issue, on: ca}", "p0", "one:x", "signs in as p1"},
		{"signing for holders who have nothing", ", holders: p2", "a: {to: p0, role: issue, on: ca}", "p0", "one:x", ""},
		{"changing the profile", ", holders: p2", "a: {to: p0, role: govern, on: ca}", "p0", "one:x", "acts as p1"},
		{"asking", "", "a: {to: p0, role: ask-for, on: ca}", "p0", "one:x", ""},
	} {
		t.Run(c.what, func(t *testing.T) {
			text := kinds + "systems: {one: {kind: box, resources: {x: {}}}, two: {kind: box, resources: {z: {}}}, " +
				"ca: {kind: authority}}\nprofiles: {door: {authority: ca, system: one, longest: 1d" + c.profile +
				"}, other: {authority: ca, longest: 1d}}\nroles: {issue: {allow: credential.issue}, approve: {allow: " +
				"credential.approve}, ask-for: {allow: credential.request-for}, govern: {allow: authority.rotate}, " +
				"w: {allow: box.wipe}}\ngrants: {w: {to: p1, role: w, on: [one, two]}, " + c.grants + "}\n" +
				fmt.Sprintf("guarantees: {g: {never: %s, may: box.wipe, on: {in: '%s', exactly: true}}}\n", c.who, c.resource)
			e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(text)}})
			require.NoError(t, err)
			g, err := gate.Compile(e, nil)
			require.NoError(t, err)
			ways, err := escalation.Work(t.Context(), e, 0, nil)
			require.NoError(t, err)
			at, err := estate.ParseAddress(c.resource)
			require.NoError(t, err)
			chain, ok, err := ways.Chain(estate.Principal{ID: c.who}, e.Operations["box.wipe"], e.Listed(at))
			require.NoError(t, err)
			var got []string
			for _, s := range chain.Steps {
				got = append(got, map[escalation.Kind]string{escalation.Acts: "acts as ",
					escalation.SignsIn: "signs in as "}[s.Kind]+s.Who.ID)
			}
			require.Equal(t, c.want, strings.Join(got, ", "))
			v, err := verify.NewProver(g, verify.Of{Ways: ways}).Judge(t.Context(), e.Guarantees["g"])
			require.NoError(t, err)
			require.Equal(t, ok, !v.Holds())
		})
	}
}
