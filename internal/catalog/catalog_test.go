package catalog

import (
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/estate"
)

func TestTheBuiltInKindsAreSound(t *testing.T) {
	kinds := Kinds()
	var ids []string
	seen := map[string]*estate.Operation{}
	for _, k := range kinds {
		ids = append(ids, k.ID)
		assert.NotEmpty(t, k.About)
		assert.GreaterOrEqual(t, len(k.Types), 2, k.ID)
		assert.GreaterOrEqual(t, len(k.Operations), 25, k.ID)
		assert.LessOrEqual(t, len(k.Operations), 45, k.ID)
		levels := map[estate.Level]int{}
		own := map[string]bool{}
		for _, o := range k.Operations {
			own[o.Name] = true
		}
		for _, o := range k.Operations {
			levels[o.Level]++
			assert.NotEmpty(t, o.About, o.Name)
			assert.NotEmpty(t, o.Types, o.Name)
			for _, typ := range o.Types {
				assert.NoError(t, estate.CheckResourceType(typ))
			}
			for _, n := range o.Needs {
				assert.True(t, own[n], "%s: %s needs %s, which the kind lacks", k.ID, o.Name, n)
			}
			for _, w := range o.Opens {
				assert.Contains(t, estate.Opens, w)
			}
			if other := seen[o.Name]; other != nil {
				assert.Equal(t, []any{other.Level, other.About, other.HighRisk, other.Exclusive, other.Opens}, []any{o.Level, o.About, o.HighRisk, o.Exclusive, o.Opens}, o.Name)
			}
			seen[o.Name] = o
		}
		assert.Len(t, levels, 4, "%s has operations of every level", k.ID)
		assert.True(t, slices.ContainsFunc(k.Operations, func(o *estate.Operation) bool {
			return slices.Contains(o.Types, "account") && o.Name == "account.set-password" || k.ID == "cluster"
		}), "%s: an account's password can be set", k.ID)
	}
	assert.Equal(t, []string{"application", "cloud-account", "cluster", "database", "device-console", "network-console", "server"}, ids)
}

func TestDataThatIsWrongIsRefused(t *testing.T) {
	for name, text := range map[string]string{
		"unknown key":      "types: [a, b]\nverbs: {}\n",
		"unknown level":    "operations: {a.b: {level: see}}\n",
		"unshared sharing": "shared: {a.b: [x]}\n",
		"bad name":         "operations: {Ab: {level: view}}\n",
	} {
		_, err := read(fstest.MapFS{"data/shared.yaml": {Data: []byte("{}")}, "data/x.yaml": {Data: []byte(text)}})
		require.Error(t, err, name)
	}
}
