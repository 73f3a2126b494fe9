package policyfile

import (
	"bytes"
	"io/fs"
	"slices"
	"strconv"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"hiddengate/internal/starter"
)

func schema(t *testing.T) *jsonschema.Schema {
	text, err := Schema()
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("workspace.json", doc))
	s, err := c.Compile("workspace.json")
	require.NoError(t, err)
	return s
}

// plain gives a node as a validator of JSON sees it, typed as YAML's core schema does.
func plain(n *yaml.Node) any {
	switch n.Kind {
	case yaml.DocumentNode:
		return plain(n.Content[0])
	case yaml.MappingNode:
		m := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			m[n.Content[i].Value] = plain(n.Content[i+1])
		}
		return m
	case yaml.SequenceNode:
		out := []any{}
		for _, c := range n.Content {
			out = append(out, plain(c))
		}
		return out
	}
	switch n.Tag {
	case "!!null":
		return nil
	case "!!bool":
		return n.Value == "true"
	case "!!int":
		if i, err := strconv.Atoi(n.Value); err == nil {
			return i
		}
	}
	return n.Value
}

func documents(t *testing.T, text []byte) (out []any, ok bool) {
	loader, err := yaml.NewLoader(bytes.NewReader(text))
	require.NoError(t, err)
	for {
		var n yaml.Node
		if err := loader.Load(&n); err != nil {
			return out, err.Error() == "EOF"
		}
		out = append(out, plain(&n))
	}
}

func TestTheDemoFitsTheSchema(t *testing.T) {
	s := schema(t)
	names, err := fs.Glob(starter.Demo(), "*.yaml")
	require.NoError(t, err)
	for _, name := range names {
		text, err := fs.ReadFile(starter.Demo(), name)
		require.NoError(t, err)
		docs, ok := documents(t, text)
		require.True(t, ok, name)
		for _, d := range docs {
			assert.NoError(t, s.Validate(d), name)
		}
	}
	docs, _ := documents(t, []byte(sound))
	assert.NoError(t, s.Validate(docs[0]))
}

// What one file alone shows to be wrong, the schema refuses too.
func TestMistakesDoNotFitTheSchema(t *testing.T) {
	beyond := []string{ // what takes other files, the zone, arithmetic or the text itself to see
		"duplicate key", "duplicate section", "duplicate id", "anchor", "unknown person", "group without its word",
		"unknown role", "unknown system",
		"scope without its word", "unknown kind", "unknown type", "unknown finding", "only not", "gathers nobody",
		"group in a circle", "role in a circle",
		"host bits", "equal hours", "attribute named as a fact", "empty tag to match", "exactly without in", "empty segment",
		"dots", "malformed escape",
		"wildcard in a listed path", "skipped time", "time that occurs twice", "no such day", "finer than a microsecond",
		"word of the notations", "built-in kind", "operation redefined",
		"another meaning", "nothing kept apart", "setting in another file", "selection without a place", "explicit tag",
		"exclamation mark", "yes for true",
	}
	s := schema(t)
	refused := 0
	for _, m := range mistakes {
		docs, ok := documents(t, []byte(m.text))
		if !ok || len(docs) == 0 || slices.Contains(beyond, m.name) {
			continue
		}
		refused++
		assert.Error(t, s.Validate(docs[0]), m.name)
	}
	assert.GreaterOrEqual(t, refused, 15)
}
