package newplace

import (
	"maps"
	"slices"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate/factspace"
)

// Terms lists the terms of lists, those of their scopes in the place of the scopes, each once.
func Terms(e *estate.Estate, lists []estate.Resources) (out []estate.ResourceTerm) {
	seen, scopes := map[string]bool{}, map[string]bool{}
	var gather func(l estate.Resources)
	gather = func(l estate.Resources) {
		for _, t := range l {
			if t.Scope != "" {
				if !scopes[t.Scope] {
					scopes[t.Scope] = true
					gather(e.Scopes[t.Scope].Resources)
				}
				continue
			}
			t.Not = false
			if key := t.String(); !seen[key] {
				seen[key] = true
				out = append(out, t)
			}
		}
	}
	for _, l := range lists {
		gather(l)
	}
	return out
}

// patternsOf lists the patterns of terms, each once.
func patternsOf(terms ...[]estate.ResourceTerm) (out []estate.Pattern) {
	seen := map[string]bool{}
	for _, t := range slices.Concat(terms...) {
		if t.In != nil && !seen[t.In.String()] {
			seen[t.In.String()] = true
			out = append(out, *t.In)
		}
	}
	return out
}

// keysAndOwners are what terms and conditions tell resources apart by: the keys of tags, and the owners that terms
// name.
func keysAndOwners(f *factspace.Facts, terms ...[]estate.ResourceTerm) (keys map[string]bool,
	owners map[estate.Principal]bool) {
	keys, owners = map[string]bool{}, map[estate.Principal]bool{}
	maps.Copy(keys, f.Same)
	maps.Copy(keys, f.Resource)
	for _, t := range slices.Concat(terms...) {
		for _, m := range t.Tags {
			keys[m.Key] = true
		}
		for _, o := range t.Owners {
			owners[o] = true
		}
	}
	return keys, owners
}
