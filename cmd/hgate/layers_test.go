package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The table of the architecture has every package, and each imports only those above it.
func TestTheLayersGoOneWay(t *testing.T) {
	text, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	var order []string
	for _, row := range regexp.MustCompile("(?m)^\\| `internal/([a-z/]+)` \\|").FindAllStringSubmatch(string(text), -1) {
		order = append(order, row[1])
	}
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "../../internal/...").Output()
	require.NoError(t, err)
	seen := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, d.Decode(&p))
		name, _ := strings.CutPrefix(p.ImportPath, "hiddengate/internal/")
		at := slices.Index(order, name)
		if !assert.GreaterOrEqual(t, at, 0, "%s is in no row of the table", name) {
			continue
		}
		seen++
		for _, other := range p.Imports {
			if below, own := strings.CutPrefix(other, "hiddengate/internal/"); own {
				assert.Contains(t, order[:at], below, "%s imports %s", name, below)
			}
		}
	}
	assert.Equal(t, len(order), seen, "the table has a package that there is not")
}

// Each word of the glossary names types that its file has.
func TestTheGlossaryIsTrue(t *testing.T) {
	text, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	row := regexp.MustCompile("(?m)^\\| [^|`]+ \\| [^|]+ \\| (`[^|]+`) \\| `([a-z/_]+\\.go)` \\|$")
	rows := row.FindAllStringSubmatch(string(text), -1)
	assert.Greater(t, len(rows), 20)
	for _, row := range rows {
		source, err := os.ReadFile("../../internal/" + row[2])
		if !assert.NoError(t, err) {
			continue
		}
		for _, name := range regexp.MustCompile("`([A-Za-z.]+)`").FindAllStringSubmatch(row[1], -1) {
			last := name[1][strings.LastIndexByte(name[1], '.')+1:]
			declared := regexp.MustCompile(`(?m)^(type |func (\(.*\) )?|\t)` + last + `\b`)
			assert.True(t, declared.Match(source), "%s of %s", name[1], row[2])
		}
	}
}
