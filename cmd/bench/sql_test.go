package main

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
	"hiddengate/internal/shape"
)

// What SQL counts over the same facts is what the table counts.
func TestSQLAgrees(t *testing.T) {
	asked := 0
	for _, s := range shape.Shapes() {
		if s = s.Small(); !s.Comparable() {
			continue
		}
		// a database in Go takes its time
		s.People, s.Grants, s.Resources = min(s.People, 60), min(s.Grants, 60), min(s.Resources, 1500)
		dir := t.TempDir()
		require.NoError(t, s.Write(dir))
		e, err := policyfile.Load(os.DirFS(dir))
		require.NoError(t, err)
		g, err := gate.Compile(e, nil)
		require.NoError(t, err)
		got := measureSQL(s, g, 4)
		assert.Zero(t, got.wrong, s.Name)
		asked += got.subjects
	}
	assert.Equal(t, 40, asked)
}

// A table that went wrong says so.
func TestADifferenceIsSaid(t *testing.T) {
	all := &table{}
	all.agree("anything", 0, 3)
	assert.False(t, all.wrong)
	all.agree("anything", 1, 3)
	assert.True(t, all.wrong)
	assert.Equal(t, "0.50", ratio([]float64{3, 0.5, 0.1}))
	assert.Equal(t, "1.23ms", short(1_234_567))
}
