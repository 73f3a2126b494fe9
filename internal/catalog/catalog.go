// Package catalog holds the built-in kinds of system and what can be done to each.
package catalog

import (
	"embed"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/estate"
)

// Edition is the newest edition of the built-in catalogs. An operation added later carries the edition it came in,
// and joins no glob of a workspace that names an older one.
const Edition = 2

//go:embed data/*.yaml
var data embed.FS

// operation is an operation as the data writes it.
type operation struct {
	Level     string
	About     string
	Types     []string
	Needs     []string
	Risk      string
	Exclusive bool
	Opens     []string
	Notice    string
	Edition   int
}

type kind struct {
	About      string
	Types      []string
	Named      map[string]string // types by first-level name
	Inside     map[string]string // types by the type of what something stands in
	Fold       bool
	Shared     map[string][]string // operations of shared.yaml, with the types they apply to here
	Operations map[string]operation
}

// Kinds gives the built-in kinds by id. They are read once and must not be changed.
var Kinds = sync.OnceValue(func() []*estate.Kind {
	kinds, err := read(data)
	if err != nil {
		panic("catalog: " + err.Error()) // the embedded data is wrong, which a test would have shown
	}
	return kinds
})

func read(files fs.FS) ([]*estate.Kind, error) {
	shared := map[string]operation{}
	if err := decode(files, "data/shared.yaml", &shared); err != nil {
		return nil, err
	}
	names, err := fs.Glob(files, "data/*.yaml")
	if err != nil {
		return nil, err
	}
	var out []*estate.Kind
	for _, name := range names {
		id := strings.TrimSuffix(strings.TrimPrefix(name, "data/"), ".yaml")
		if id == "shared" {
			continue
		}
		var k kind
		if err := decode(files, name, &k); err != nil {
			return nil, err
		}
		built := &estate.Kind{Object: estate.Object{ID: id, About: k.About}, Types: k.Types,
			Named: tagsOf(k.Named), Inside: tagsOf(k.Inside), Fold: k.Fold, BuiltIn: true}
		for op, types := range k.Shared {
			o, ok := shared[op]
			if !ok {
				return nil, fmt.Errorf("%s: %s is not in shared.yaml", name, op)
			}
			o.Types = types
			k.Operations[op] = o
		}
		for op, o := range k.Operations {
			b, err := build(op, o)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			built.Operations = append(built.Operations, b)
		}
		slices.SortFunc(built.Operations, func(a, b *estate.Operation) int { return strings.Compare(a.Name, b.Name) })
		out = append(out, built)
	}
	return out, nil
}

func tagsOf(list map[string]string) (out estate.Tags) {
	for _, key := range slices.Sorted(maps.Keys(list)) {
		out = append(out, estate.Tag{Key: key, Value: list[key]})
	}
	return out
}

func decode(files fs.FS, name string, into any) error {
	text, err := fs.ReadFile(files, name)
	if err != nil {
		return err
	}
	if err := yaml.Load(text, into, yaml.WithKnownFields()); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

func build(name string, o operation) (*estate.Operation, error) {
	level, err := estate.ParseLevel(o.Level)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if err := estate.CheckOperationName(name); err != nil {
		return nil, err
	}
	return &estate.Operation{
		Name: name, Level: level, About: o.About, Types: o.Types, Needs: o.Needs, HighRisk: o.Risk == "high",
		Exclusive: o.Exclusive, Opens: o.Opens, Notice: o.Notice, Edition: max(o.Edition, 1),
	}, nil
}
