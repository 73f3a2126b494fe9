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
				assert.Equal(t, []any{other.Level, other.About, other.HighRisk, other.Exclusive, other.Opens},
					[]any{o.Level, o.About, o.HighRisk, o.Exclusive, o.Opens}, o.Name)
			}
			seen[o.Name] = o
		}
		assert.Len(t, levels, 4, "%s has operations of every level", k.ID)
		assert.True(t, slices.ContainsFunc(k.Operations, func(o *estate.Operation) bool {
			return slices.Contains(o.Types, "account") && o.Name == "account.set-password" || k.ID == "cluster"
		}), "%s: an account's password can be set", k.ID)
	}
	assert.Equal(
		t,
		[]string{"application", "authority", "cloud-account", "cluster", "database", "device-console", "directory",
			"network-console",
			"server"},
		ids,
	)
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

// A template names only what its kind offers, gathers something with each term, and has what its operations need. Only
// administrators decide who else may, and those whom the name says it of.
func TestTemplatesAreSound(t *testing.T) {
	kinds := map[string]*estate.Kind{}
	names := map[string][]string{}
	for _, k := range Kinds() {
		kinds[k.ID] = k
	}
	for _, template := range Templates() {
		kind := kinds[template.Kind]
		require.NotNil(t, kind, template.ID)
		require.NotEmpty(t, template.About, template.ID)
		names[template.Kind] = append(names[template.Kind], template.ID[len(template.Kind)+1:])
		var list estate.Operations
		for _, text := range template.Allow {
			term, err := estate.ParseOperationTerm(text)
			require.NoError(t, err, template.ID)
			list = append(list, term)
			alone := estate.Operations{{Kind: term.Kind, Name: term.Name, Level: term.Level}}
			assert.True(t, slices.ContainsFunc(kind.Operations, func(o *estate.Operation) bool { return alone.Fit(o, Edition) }),
				"%s: %s is nothing that a %s offers", template.ID, text, template.Kind)
		}
		has := map[string]bool{}
		for _, o := range kind.Operations {
			has[o.Name] = list.Fit(o, Edition)
		}
		for _, o := range kind.Operations {
			if !has[o.Name] {
				continue
			}
			for _, need := range o.Needs {
				assert.True(t, has[need], "%s has %s, and not %s, which it needs", template.ID, o.Name, need)
			}
			grave := o.HighRisk || o.Level == estate.Govern
			strong := []string{"administrator", "approver", "account-keeper", "restore-operator", "keeper", "publisher",
				"operator", "machine-keeper", "registrar"}
			assert.True(t, !grave || slices.Contains(strong, template.ID[len(template.Kind)+1:]), "%s hands out %s", template.ID,
				o.Name)
		}
	}
	for _, k := range Kinds() {
		for _, name := range []string{"reader", "operator", "keeper", "auditor", "administrator"} {
			assert.Contains(t, names[k.ID], name, k.ID)
		}
	}
}
