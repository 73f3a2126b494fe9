package main

import (
	"fmt"
	"slices"
	"strings"

	"hiddengate/internal/catalog"
	"hiddengate/internal/cli"
	"hiddengate/internal/estate"
	"hiddengate/internal/target"
)

// targets writes what each driver carries.
func targets() string {
	var b strings.Builder
	b.WriteString(`# The real systems

What each driver carries, and how. A right of the system is given to an account where the policy allows all operations
that it gives, now and without a condition on anything but the moment; what is left out is never given. An operation
that stands in no table here is not carried: the system has no right for it. This page is made from the drivers' own
data; ` + "`hgate compile SYSTEM`" + ` tells the same of your policy.
`)
	for _, d := range cli.Drivers {
		fmt.Fprintf(&b, "\n## %s\n\nFor %s; a system of kind `%s`. Its address is written `%s`. %s\n", d.Name, d.About,
			d.Kind, d.Address, d.Names)
		if d.Verifiers != "" {
			fmt.Fprintf(&b, "Passwords that `hgate credential password` sets are told as verifiers for %s.\n", d.Verifiers)
		}
		if d.SignIn != nil {
			b.WriteString("`hgate credential test` signs in there with a bundle's certificate.\n")
		}
		b.WriteString("\n| operation | on | is carried by |\n|---|---|---|\n")
		for _, n := range d.Carries.Natives {
			by := "`" + n.Name + "`"
			switch {
			case n.Unlimited:
				by += ", which gives everything, and is given where all is allowed there and inside"
			case n.Inside != nil:
				by += ", which gives " + code(n.Inside) + " inside too, and is given where all of that is allowed"
			case len(n.Gives) > 1:
				by += ", which gives all of them, and is given where all are allowed"
			case n.OnRows:
				by += ", of some rows alone where the table says what tells its `rows` apart"
			}
			fmt.Fprintf(&b, "| %s | %s | %s |\n", code(n.Gives), strings.Join(n.Types, ", "), by)
		}
		b.WriteString("\n| operation | on | what becomes of it | why |\n|---|---|---|---|\n")
		for _, n := range d.Carries.Notes {
			types := strings.Join(n.Types, ", ")
			if types == "" {
				types = "all"
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", n.Operation, types, n.How, n.Why)
		}
		if rest := notCarried(d); len(rest) > 0 {
			fmt.Fprintf(&b, "\nNot carried: %s.\n", code(rest))
		}
	}
	return b.String()
}

func code(operations []string) string { return "`" + strings.Join(operations, "`, `") + "`" }

// notCarried lists the operations of a driver's kind of which it says nothing.
func notCarried(d *target.Driver) (out []string) {
	for _, k := range catalog.Kinds() {
		if k.ID != d.Kind {
			continue
		}
		for _, o := range k.Operations {
			if !carriedBy(d, o) {
				out = append(out, o.Name)
			}
		}
	}
	return out
}

func carriedBy(d *target.Driver, o *estate.Operation) bool {
	given := func(n target.Native) bool { return slices.Contains(n.Gives, o.Name) }
	noted := func(n target.Note) bool { return n.Operation == o.Name }
	return slices.ContainsFunc(d.Carries.Natives, given) || slices.ContainsFunc(d.Carries.Notes, noted)
}
