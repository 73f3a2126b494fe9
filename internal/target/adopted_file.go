package target

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/splice"
)

// File writes what a system gives as a file of the policy.
func (a *Adopted) File(id string, s *State) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "# What `hgate pull %s` found. The next pull writes this file again.\n", id)
	section := func(name string, n int, entry func(i int) (string, *yaml.Node)) {
		if n > 0 {
			fmt.Fprintf(&b, "%s:\n", name)
		}
		for i := range n {
			key, body := entry(i)
			b.WriteString("  " + splice.Entry(key, body, 2) + "\n")
		}
	}
	section("groups", len(a.Groups), func(i int) (string, *yaml.Node) {
		g := a.Groups[i]
		pairs := []*yaml.Node{splice.Scalar("title"), splice.Scalar(g.Title)}
		if len(g.Members) > 0 {
			pairs = append(pairs, splice.Scalar("members"), scalars(g.Members))
		}
		return g.ID, splice.Map(pairs...)
	})
	section("roles", len(a.Roles), func(i int) (string, *yaml.Node) {
		operations := a.Roles[i].Operations
		if operations == nil {
			operations = []string{"from view"}
		}
		return a.Roles[i].ID, splice.Map(splice.Scalar("allow"), scalars(operations))
	})
	outer := s.outer()
	section("grants", len(a.Grants), func(i int) (string, *yaml.Node) {
		g := a.Grants[i]
		var places []*yaml.Node
		for _, n := range g.Places {
			at := splice.Scalar(s.Address(id, n).String())
			if !g.Whole && outer[s.Places[n].Path] {
				at = splice.Map(splice.Scalar("in"), at, splice.Scalar("exactly"),
					&yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: "true"})
			}
			places = append(places, at)
		}
		return g.ID, splice.Map(splice.Scalar("to"), scalars(g.To), splice.Scalar("role"), splice.Scalar(g.Role),
			splice.Scalar("on"), splice.List(places...))
	})
	return []byte(b.String())
}

// outer lists the paths of places in which other things stand, or may come to stand.
func (s *State) outer() map[string]bool {
	out := map[string]bool{}
	for _, p := range s.Places {
		if strings.Count(p.Path, "/") == 0 {
			out[p.Path] = true
		}
		for at := strings.LastIndexByte(p.Path, '/'); at > 0; at = strings.LastIndexByte(p.Path[:at], '/') {
			out[p.Path[:at]] = true
		}
	}
	return out
}

func scalars(list []string) *yaml.Node {
	var out []*yaml.Node
	for _, text := range list {
		out = append(out, splice.Scalar(text))
	}
	return splice.List(out...)
}
