package survey

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/differing"
	"hiddengate/internal/gate/membership"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
)

// A cover says the same however who may do something is found, also in a week in which some people leave.
func TestCoversAreTheSameFollowed(t *testing.T) {
	enough, partly := 0, 0
	for _, s := range shape.Hard(150) {
		dir := t.TempDir()
		require.NoError(t, s.Write(dir))
		e, err := policyfile.Load(os.DirFS(dir))
		require.NoError(t, err)
		for _, at := range []string{"2026-03-02T00:00", "2031-06-27T12:00", "2036-07-01T00:00"} {
			since, err := e.Zone.ParseTime(at)
			require.NoError(t, err)
			rows := func(follow differing.Follow) (out []string) {
				watch := Watch{Since: since, Least: 2, What: func(*estate.Operation) bool { return true }}
				everywhere := estate.Resources{{Everything: true}}
				scene := differing.Scene{Roster: membership.New(e), Places: []estate.Resources{everywhere}}
				c, err := newCounter(e, scene, watch, everywhere)
				require.NoError(t, err)
				c.Follow = follow
				require.NoError(t, c.run(t.Context()))
				for _, r := range c.tell(e) {
					out = append(out, fmt.Sprint(r.Operation.Name, r.Places, r.Count, r.People, r.Number, r.Services, r.Short))
					switch r.Short {
					case "":
						enough++
					case "always":
					default:
						partly++
					}
				}
				return out
			}
			require.Equal(t, rows(differing.Never), rows(differing.Always), "%s at %s", s.Name, at)
		}
	}
	require.Positive(t, enough)
	require.Positive(t, partly)
}

// Whoever leaves within the week is there until then, and whoever comes after it is not.
func TestACoverSaysWhoLeaves(t *testing.T) {
	g := compile(t, `hidden-gate: 1
systems: {db: {kind: database, resources: {sky: {}}}}
people: {ana: {}, bo: {ends: 2026-03-04}, cai: {starts: 2026-03-09}}
roles: {reader: {allow: table.read}}
grants: {g: {to: [ana, bo, cai], role: reader, on: db}}
`)
	since, err := g.Estate().Zone.ParseTime("2026-03-02T00:00")
	require.NoError(t, err)
	rows, err := Cover(t.Context(), g.Estate(), Watch{Since: since, Least: 2, Gate: g,
		What: func(o *estate.Operation) bool { return o.Name == "table.read" }})
	require.NoError(t, err)
	require.Len(t, rows, 1)
	require.Equal(t, 3, rows[0].Number)
	require.Equal(t, "thu-sun 00:00-24:00", rows[0].Short)
}
