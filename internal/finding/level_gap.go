package finding

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/diagnostic"
	"hiddengate/internal/estate"
	"hiddengate/internal/verify"
)

var levelGap = &Finding{
	Code: "level-gap", Severity: diagnostic.Warning,
	Doc: "A block, the `denied` of a test or a `never` takes a level away and forgets those above it: who may " +
		"not change may still govern, and so give themselves the change.",
	Cure: "write `from LEVEL` in place of `only LEVEL` or `up to LEVEL`",
	find: func(c *check) {
		for _, b := range estate.Sorted(c.about.Blocks) {
			c.gap("block", &b.Object, append(slices.Clone(b.Deny), c.besides(b)...))
		}
		for _, t := range estate.Sorted(c.about.Tests) {
			byPlace := map[string]estate.Operations{}
			var order []string
			for _, s := range t.Denied {
				place := s.Place.String()
				if byPlace[place] == nil {
					order = append(order, place)
				}
				byPlace[place] = append(byPlace[place], s.Operation)
			}
			for _, place := range order {
				c.gap("test", &t.Object, byPlace[place])
			}
		}
		for _, g := range estate.Sorted(c.about.Guarantees) {
			if verify.KindOf(g).Denies {
				c.gap("guarantee", &g.Object, g.May)
			}
		}
	},
}

// besides gives what other blocks deny to the same subjects in the same places, whenever this one does.
func (c *check) besides(b *estate.Block) (out estate.Operations) {
	for _, o := range estate.Sorted(c.estate.Blocks) {
		if o.ID != b.ID && o.When == nil && o.Starts == nil && o.Ends == nil && written(o.To) == written(b.To) &&
			written(o.On) == written(b.On) {
			for _, t := range o.Deny {
				if !t.Not && (t.Kind == estate.All || t.Kind == estate.OnlyLevel || t.Kind == estate.UpToLevel ||
					t.Kind == estate.FromLevel) {
					out = append(out, t)
				}
			}
		}
	}
	return out
}

// written writes a list as files do.
func written[T fmt.Stringer](list []T) string {
	var b strings.Builder
	for _, t := range list {
		b.WriteString(t.String() + "\n")
	}
	return b.String()
}

// gap reports a list that takes a level whose next one up it leaves.
func (c *check) gap(what string, o *estate.Object, list estate.Operations) {
	takes := func(l estate.Level) bool {
		return slices.ContainsFunc(list, func(t estate.OperationTerm) bool {
			switch t.Kind {
			case estate.All:
				return true
			case estate.OnlyLevel:
				return t.Level == l
			case estate.UpToLevel:
				return l <= t.Level
			case estate.FromLevel:
				return l >= t.Level
			}
			return false
		})
	}
	for _, t := range list {
		if t.Not || (t.Kind != estate.OnlyLevel && t.Kind != estate.UpToLevel) {
			continue
		}
		for above := t.Level + 1; above <= estate.Govern; above++ {
			if !takes(above) {
				c.report(o, t.Position, "%s takes %q and leaves what is above it, from %s on", named(what, o), t.String(), above)
				return
			}
		}
	}
}
