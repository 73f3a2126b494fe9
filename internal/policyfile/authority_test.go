package policyfile

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Every key of every section, and every setting, says whose it is to change.
func TestEveryKeySaysWhoseItIsToChange(t *testing.T) {
	keys := 0
	check := func(section string, table []field) {
		for _, f := range table {
			keys++
			assert.NotEmpty(t, f.authority.Words(), "%s: %s", section, f.name)
		}
	}
	check("settings", settingFields)
	check("resources", resourceFields)
	for _, s := range sections {
		check(s.name, s.table)
	}
	assert.Greater(t, keys, 120)
}
