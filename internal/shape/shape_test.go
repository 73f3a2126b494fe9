package shape_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
)

// Every shape is a sound workspace, the same each time, and its requests are about it.
func TestShapes(t *testing.T) {
	all := shape.Hard(1000)
	for _, s := range shape.Shapes() {
		all = append(all, s.Small())
	}
	for _, s := range all {
		t.Run(s.Name, func(t *testing.T) {
			dir, again := t.TempDir(), t.TempDir()
			require.NoError(t, s.Write(dir))
			require.NoError(t, s.Write(again))
			files, err := os.ReadDir(dir)
			require.NoError(t, err)
			for _, f := range files {
				one, err := os.ReadFile(dir + "/" + f.Name())
				require.NoError(t, err)
				two, err := os.ReadFile(again + "/" + f.Name())
				require.NoError(t, err)
				assert.Equal(t, string(one), string(two))
			}
			e, err := policyfile.Load(os.DirFS(dir))
			require.NoError(t, err)
			assert.Len(t, e.People, s.People)
			assert.Len(t, e.Grants, s.Grants+s.ManyRoles)
			g, err := gate.Compile(e, nil)
			require.NoError(t, err)
			c := g.NewContext()
			some := 0
			for _, a := range s.Asks(500) {
				outcome, err := g.Decide(gate.Request{Subject: estate.Principal{ID: a.Who}, Operation: a.What, Resource: a.Where,
					Context: c})
				require.NoError(t, err, "%v", a)
				if outcome != gate.Deny {
					some++
				}
			}
			assert.Greater(t, some, 50)
		})
	}
}
