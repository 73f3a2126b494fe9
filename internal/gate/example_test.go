package gate_test

import (
	"fmt"
	"testing/fstest"

	"hiddengate/internal/estate"
	"hiddengate/internal/gate"
	"hiddengate/internal/policyfile"
)

// A gate answers three things: allowed, denied, and that it depends on what the request leaves open.
func Example() {
	e, err := policyfile.Load(fstest.MapFS{"hidden-gate.yaml": {Data: []byte(`hidden-gate: 1
systems: {obsdb: {kind: database, resources: {sky: {}, sky/frames-0411: {}}}}
people: {pia.lindqvist: {}}
roles: {frame-reader: {allow: table.read}}
grants: {reads: {to: pia.lindqvist, role: frame-reader, on: obsdb:sky, when: {mfa: true}}}
`)}})
	if err != nil {
		panic(err)
	}
	g, err := gate.Compile(e, nil)
	if err != nil {
		panic(err)
	}
	c := g.NewContext()
	req := gate.Request{Subject: estate.Principal{ID: "pia.lindqvist"}, Operation: "table.read",
		Resource: "obsdb:sky/frames-0411", Context: c}
	for _, mfa := range []string{"", estate.Yes, estate.No} {
		if mfa != "" {
			c.Say(estate.FactNamed("mfa"), mfa)
		}
		outcome, err := g.Decide(req)
		if err != nil {
			panic(err)
		}
		fmt.Println(outcome)
	}
	// Output:
	// depends
	// allow
	// deny
}
