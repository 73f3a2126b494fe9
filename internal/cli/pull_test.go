package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"hiddengate/internal/estate"
)

// An account that could be two people's by their email is nobody's.
func TestAnEmailOfTwoPeopleFitsNobody(t *testing.T) {
	e := estate.New()
	emails := map[string]string{"ana": "ana@ternhollow.example", "other": "ana@relay.example", "bo": "", "cai": "c@x"}
	for id, email := range emails {
		e.People[id] = &estate.Subject{Email: email}
	}
	known := map[string]estate.Principal{}
	byEmail(e, known)
	assert.Equal(t, map[string]estate.Principal{"ana@ternhollow.example": {ID: "ana"}, "ana@relay.example": {ID: "other"},
		"c@x": {ID: "cai"}, "c": {ID: "cai"}}, known)
}
