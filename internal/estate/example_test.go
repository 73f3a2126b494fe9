package estate_test

import (
	"fmt"

	"hiddengate/internal/estate"
)

// A what-if estate shares everything with the one it is made of but the sections that its edits touch.
func ExampleEstate_With() {
	e := estate.New()
	e.Grants["dome-keys"] = &estate.Grant{Object: estate.Object{ID: "dome-keys"}}
	night := &estate.Grant{Object: estate.Object{ID: "night-keys"}}
	without := e.With(estate.Drop("grants", "dome-keys"), estate.Put("grants", night))
	fmt.Println(len(e.Grants), e.Grants["night-keys"] == nil)
	fmt.Println(len(without.Grants), without.Grants["night-keys"] == night, without.Shares(e, "people"))
	// Output:
	// 1 true
	// 1 true true
}

// A pattern covers what it matches and everything inside.
func ExampleParsePattern() {
	p, err := estate.ParsePattern("obsdb:*/frames-*")
	if err != nil {
		panic(err)
	}
	for _, text := range []string{"obsdb:sky/frames-0411", "obsdb:sky/frames-0411/raw", "obsdb:frames-0411"} {
		a, err := estate.ParseAddress(text)
		if err != nil {
			panic(err)
		}
		fmt.Println(text, p.Covers(a, false))
	}
	// Output:
	// obsdb:sky/frames-0411 true
	// obsdb:sky/frames-0411/raw true
	// obsdb:frames-0411 false
}
