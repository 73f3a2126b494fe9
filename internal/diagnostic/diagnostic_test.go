package diagnostic

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestNearest(t *testing.T) {
	known := []string{"table.read", "table.drop", "table.alter", "allow", "all"}
	for word, want := range map[string]string{"table.raed": "table.read", "tabledrop": "table.drop",
		"Table.Read": "table.read", "alow": "allow", "zebra": "", "": "", "al": "all"} {
		assert.Equal(t, want, Nearest(word, known), word)
	}
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[a-z.]{4,12}`).Draw(t, "word")
		i := rapid.IntRange(0, len(word)-2).Draw(t, "at")
		swapped := word[:i] + word[i+1:i+2] + word[i:i+1] + word[i+2:]
		assert.Equal(t, word, Nearest(swapped, []string{"quite another thing", word}))
		assert.Equal(t, word, Nearest(word[:i]+word[i+1:], []string{word}))
	})
}

func TestALongOrStrangeLineIsShownAroundItsColumn(t *testing.T) {
	line := strings.Repeat("x", 300) + "HERE" + strings.Repeat("y", 300)
	var b bytes.Buffer
	Print(&b, List{{Severity: Error, Message: "m", Position: Position{"f", 1, 301}, Source: line},
		{Severity: Note, Code: "c", Message: "m", Position: Position{"f", 2, 2}, Source: "\x1b[31m\tred"}}, nil)
	lines := strings.Split(b.String(), "\n")
	assert.Equal(t, strings.Index(lines[1], "H"), strings.Index(lines[2], "^"))
	assert.LessOrEqual(t, len(lines[1]), 100)
	assert.NotContains(t, b.String(), "\x1b")
	assert.Contains(t, b.String(), "f:2:2: note c: m")
}

func TestSortDropsWhatIsSaidTwice(t *testing.T) {
	l := List{{Message: "b", Position: Position{"b", 1, 1}}, {Message: "a", Position: Position{"a", 2, 1}},
		{Message: "a", Position: Position{"a", 1, 1}}, {Message: "b", Position: Position{"b", 1, 1}}}.Sort()
	assert.Len(t, l, 3)
	assert.Equal(t, "a:1:1", l[0].Position.String())
	assert.Equal(t, "a:1:1: a (and 2 more)", l.Error())
}
