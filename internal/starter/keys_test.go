package starter_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/policyfile"
	"hiddengate/internal/starter"
)

// The demo's files list the keys whose private halves are written beside them.
func TestTheDemoListsItsKeys(t *testing.T) {
	e, err := policyfile.Load(starter.Demo())
	require.NoError(t, err)
	for _, id := range starter.Keyed {
		line, err := starter.PublicKey(id)
		require.NoError(t, err)
		assert.Equal(t, []string{line}, e.People[id].Keys, id)
	}
	assert.NoError(t, starter.WriteKeys(t.TempDir()))
}
