package starting

import (
	"bytes"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hiddengate/internal/standin"
	"hiddengate/internal/standin/application"
)

// The schema of a stand-in's access settings takes what the stand-in takes, and refuses what it refuses of the form.
func TestTheSchemaTakesWhatTheStandInTakes(t *testing.T) {
	for _, k := range Kinds {
		text, err := k.Schema()
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		c := jsonschema.NewCompiler()
		require.NoError(t, c.AddResource("settings.json", doc))
		schema, err := c.Compile("settings.json")
		require.NoError(t, err)
		right := k.Commands[0].Right
		group := `"teams": {"t": {"members": ["a"], "permits": {"*": ["R"]}, "note": "n"}}`
		account := `"a": {"permits": {".": ["R"]}, "ends": "2030-01-01T00:00:00Z", "locked": true, "ranks": {".": 1}}`
		if k.Name == "application" {
			group = `"roles": {"t": {"permits": {"*": ["R"]}, "note": "n"}}`
			account = `"a": {"roles": ["t"], "ends": "2030-01-01T00:00:00Z", "locked": true, "second-factor": true}`
		}
		good := `{"accounts": {"k": {"keeper": true}, ` + account + `}, ` + group + `, "everybody": {".": ["R"]}}`
		for settings, taken := range map[string]bool{good: true, `{}`: false, `{"accounts": {}, "more": 1}`: false,
			strings.Replace(good, `"locked": true`, `"locked": "yes"`, 1): false,
			strings.Replace(good, `"locked": true`, `"shut": true`, 1):    false} {
			settings = strings.ReplaceAll(settings, `"R"`, `"`+right+`"`)
			value, err := jsonschema.UnmarshalJSON(strings.NewReader(settings))
			require.NoError(t, err)
			assert.Equal(t, taken, schema.Validate(value) == nil, "%s: %s", k.Name, settings)
			var x standin.Settings = &standin.Access{}
			if k.Name == "application" {
				x = &application.Settings{}
			}
			err = standin.Strictly([]byte(settings), x)
			if err == nil {
				err = x.Check(standin.RightsOf(k.Commands), map[string]string{standin.Root: "site"})
			}
			assert.Equal(t, taken, err == nil, "%s: %s: %v", k.Name, settings, err)
		}
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(strings.ReplaceAll(good, `"R"`, `"do-everything"`)))
		require.NoError(t, err)
		assert.Error(t, schema.Validate(value))
	}
}
