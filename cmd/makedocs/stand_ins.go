package main

import (
	_ "embed"
	"fmt"
	"strings"

	"hiddengate/internal/standin/starting"
)

// What no table says of the stand-ins.
//
//go:embed stand-ins-head.md
var standInsHead string

// standIns writes what each stand-in can do, and which right that needs.
func standIns() string {
	var b strings.Builder
	b.WriteString(standInsHead)
	for _, k := range starting.Kinds {
		fmt.Fprintf(
			&b,
			"\n## %s\n\nThe simulated %s, for systems of kind `%s`. The driver is `stand-in-%s`.\n",
			k.Name,
			k.About,
			k.Serves,
			k.Name,
		)
		b.WriteString("\n| command | needs the right | at |\n|---|---|---|\n")
		for _, c := range k.Commands {
			words := c.Words + " at PLACE"
			if c.Takes() {
				words += ": TEXT"
			}
			fmt.Fprintf(&b, "| `%s` | `%s` | %s |\n", words, c.Right, strings.Join(c.On, ", "))
		}
	}
	return b.String()
}
