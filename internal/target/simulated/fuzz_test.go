package simulated

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/standin"
	"hiddengate/internal/target"
	"hiddengate/internal/target/targettest"
)

// FuzzReading plans for whatever a stand-in may say of itself.
func FuzzReading(f *testing.F) {
	f.Add(
		`{"revision": "r", "settings": {"accounts": {"noor": {"permits": {"summit": ["see-devices"], "*": ["x"]}}, "k": {}},
		"teams": {"hgate:real:both-work": {"members": ["noor"], "note": "x"}, "hgate:": {}}, "everybody": {"base/*": ["y"]}},
		"places": [{"path": ".", "type": "network"}, {"path": "summit", "type": "site"}, {"path": "summit", "type": "x"}]}`,
	)
	var g *gate.Gate
	f.Fuzz(func(t *testing.T, text string) {
		if g == nil {
			g = targettest.Load(t, driftingOf(trials["network"]).policy())
		}
		var v view
		if standin.Strictly([]byte(text), &v) != nil || check(v.Settings) != nil {
			return
		}
		snap := newSnapshot(networkKind, "real", "keeper", v.Revision, v.Settings, v.Places)
		w, err := target.Work(t.Context(), target.Task{Gate: g, System: "real", At: targettest.At,
			Carries: &Named("network").Carries, State: snap.State(), Create: true})
		require.NoError(t, err)
		a, err := w.Arrange(t.Context())
		require.NoError(t, err)
		snap.Plan(a)
		snap.Found()
	})
}

// FuzzAddress reads addresses: none is taken that sends a secret in clear to another machine.
func FuzzAddress(f *testing.F) {
	f.Add("http://keeper@127.0.0.1:80")
	f.Add("https://keeper@gate.ternhollow.example?authority=x")
	f.Add("http://keeper@192.0.2.1:80")
	f.Fuzz(func(t *testing.T, text string) {
		at, err := readWebAddress(text)
		if err == nil {
			require.NotEmpty(t, at.user)
			require.Regexp(t, `^(https://|http://(127\.[0-9.]+|localhost|\[::1\]|\[.*\])(:[0-9]*)?$)`, at.base)
		}
	})
}
