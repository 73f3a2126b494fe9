package catalog

import (
	_ "embed" // the templates
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v4"
)

// Template is a role to start from, for one kind of system.
type Template struct {
	ID    string // KIND/NAME
	Kind  string
	About string
	Allow []string // as a role has them
}

//go:embed templates.yaml
var templates []byte

// Templates gives the roles to start from, by id.
var Templates = sync.OnceValue(func() []Template {
	var read map[string]map[string]struct {
		About string
		Allow []string
	}
	if err := yaml.Unmarshal(templates, &read); err != nil {
		panic("catalog: " + err.Error()) // the embedded data is wrong, which a test would have shown
	}
	var out []Template
	for kind, roles := range read {
		for name, r := range roles {
			out = append(out, Template{kind + "/" + name, kind, r.About, r.Allow})
		}
	}
	slices.SortFunc(out, func(a, b Template) int { return strings.Compare(a.ID, b.ID) })
	return out
})
