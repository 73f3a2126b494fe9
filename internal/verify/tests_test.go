package verify_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/verify"
)

const base = `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}, sky/a: {}}}}
people: {ana: {}, bo: {}}
groups: {crew: {members: [ana, bo]}, nobody: {members: [ana, not ana]}}
roles:
  reader: {allow: [up to use]}
  changer: {allow: [table.insert]}
grants:
  all-read: {to: group:crew, role: reader, on: db}
  ana-inserts: {to: ana, role: changer, on: 'db:sky/a'}
  bo-perhaps: {to: bo, role: changer, on: 'db:sky/a', when: {mfa: true}}
`

func run1(t *testing.T, text string) (verify.Result, error) {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(base +
		"tests: {t: {given: {time: 2027-12-01T10:00}, " + text + "}}\n")}})
	require.NoError(t, err)
	g, err := gate.Compile(e, nil)
	require.NoError(t, err)
	return verify.Run(g, e.Tests["t"], 0)
}

func TestWhatPassesAndWhatFails(t *testing.T) {
	for _, c := range []struct {
		text string
		want []string // expected and got of each failure
	}{
		{"who: group:crew, allowed: table.read on db:sky, denied: from govern on db", nil},
		{"who: group:crew, allowed: table.insert on db:sky/a", []string{"bo allow depends"}},
		{"who: group:crew, denied: table.insert on db:sky/a", []string{"ana deny allow", "bo deny depends"}},
		{"who: bo, denied: [table.insert on db:sky/a, table.drop on db:sky/a]", []string{"bo deny depends"}},
		{"levels: {ana: {'db:sky/a': change}}", nil},
		{"levels: {bo: {'db:sky/a': change}}", []string{"bo change change, which depends"}},
		{"levels: {bo: {'db:sky/a': use}}", []string{"bo use change, which depends"}},
		{"levels: {ana: {'db:sky/a': all use}}", []string{"ana all use change"}},
		{"levels: {ana: {'db:sky/a': all change}}", []string{"ana all change change"}},
		{"levels: {anonymous: {db: none}}", nil},
		{"levels: {anonymous: {db: view}}", []string{"anonymous view none"}},
		{"levels: {ana: {'db:sky/a': none}}", []string{"ana none change"}},
	} {
		r, err := run1(t, c.text)
		require.NoError(t, err, c.text)
		var got []string
		for f := range r.Failures() {
			got = append(got, f.Subject.String()+" "+f.Expected+" "+f.Got)
		}
		assert.Equal(t, c.want, got, c.text)
	}
}

func TestATestThatAsksForNothingIsAnError(t *testing.T) {
	for text, want := range map[string]string{
		"who: group:nobody, allowed: table.read on db:sky": "nobody is among who",
		"who: ana, allowed: table.read on db:moon":         "db:moon is not listed",
		"who: ana, allowed: 'table.read on db:m*'":         "no resource is there",
		"who: ana, allowed: tabel.read on db":              "there is no such operation",
		"who: ana, allowed: table.read on db:sky/a/x":      "is not listed",
		"who: ana, denied: content.view on db":             "no such operation applies",
		"levels: {group:nobody: {db: none}}":               "select nothing",
		"levels: {ana: {'db:moon': none}}":                 "is not listed",
	} {
		_, err := run1(t, text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
		assert.Contains(t, err.Error(), "hidden-gate.yaml:12:")
	}
}
