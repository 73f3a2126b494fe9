package view

import (
	"bytes"
	"regexp"
	"strings"
	"testing"

	"github.com/clipperhouse/displaywidth"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func table(width int, color bool, heading []string, rows ...[]Cell) string {
	var b bytes.Buffer
	p := &Page{Writer: &b, Width: width, Color: color}
	p.Table(2, heading, rows)
	return b.String()
}

func TestColumnsLineUp(t *testing.T) {
	assert.Equal(t, "  id   about\n  a    one\n  bbb  two\n",
		table(40, false, []string{"id", "about"}, Row("a", "one"), Row("bbb", "two")))
	assert.Equal(t, "  id  first second third\n      fourth fifth\n",
		table(28, false, nil, Row("id", "first second third fourth fifth")))
	assert.Equal(t, "  João   x\n  dürre  y\n", table(40, false, nil, Row("João", "x"), Row("dürre", "y")))
	assert.Equal(t, "  a        x\n    b c d  y\n    e f\n", table(13, false, nil, Row("a", "x"),
		[]Cell{{Text: "b c d e f", Indent: 2}, {Text: "y"}}))
	assert.Empty(t, table(40, false, nil))
}

func TestColourAddsNoColumns(t *testing.T) {
	row := []Cell{{Text: "allowed", Style: Yes}, {Text: "word", Style: Faint}, {Style: No}}
	painted := table(40, true, nil, row)
	plain := regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(painted, "")
	assert.NotEqual(t, painted, plain)
	assert.Equal(t, table(40, false, nil, row), plain)
}

func TestNothingIsLostOrTooWide(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`([a-zé]{1,30} ?){0,12}`)
		cells := rapid.SliceOfN(text, 1, 4).Draw(t, "cells")
		got := table(60, false, nil, Row(cells...))
		letters := func(s string) int { return len(strings.Join(strings.Fields(s), "")) }
		assert.Equal(t, letters(strings.Join(cells, " ")), letters(got))
		longest := 0 // words that alone are too wide may stand out
		for _, c := range cells {
			for word := range strings.FieldsSeq(c) {
				longest = max(longest, len([]rune(word)))
			}
		}
		for line := range strings.Lines(got) {
			assert.LessOrEqual(t, displaywidth.String(strings.TrimRight(line, "\n")), max(60, 2+len(cells)*(longest+2)))
		}
	})
}

// Whatever comes from outside paints nothing, hides nothing and begins no line, in lines and in tables.
func TestWhatComesFromOutsideIsShownAsItIs(t *testing.T) {
	const evil = "a\x1b[32mb\nALLOWED\u202ec\r"
	for _, color := range []bool{false, true} {
		var b bytes.Buffer
		p := &Page{Writer: &b, Width: 100, Color: color}
		p.Line("said: %s", evil)
		p.Line("said: %s", p.Paint(No, evil))
		p.Table(2, []string{"head"}, [][]Cell{{{Text: evil, Style: Yes}, {Text: "one" + Break + "two"}}})
		out := regexp.MustCompile("\x1b\\[(0|1|[0-9;]*38;5;[0-9]+)m").ReplaceAllString(b.String(), "")
		assert.Equal(t, 3, strings.Count(out, "a<U+001B>[32mb ALLOWED<U+202E>c<U+000D>"))
		assert.Len(t, strings.Split(strings.TrimSuffix(out, "\n"), "\n"), 5, "%q", out)
		assert.Equal(t, color, out != b.String())
	}
	assert.Equal(t, "x", (&Page{}).Paint(Yes, "x"))
}

// A line that is too wide is broken between words, and a command before its flags, so that it can be pasted.
func TestLinesAreBrokenWhereTheyMayBe(t *testing.T) {
	var out strings.Builder
	p := &Page{Writer: &out, Width: 30}
	p.Line("  one two three four five six seven")
	p.Line("  hgate set role reader --allow +table.view --dry-run")
	p.Line("%s", p.Paint(No, "short"))
	assert.Equal(t, "  one two three four five six\n  seven\n"+
		"  hgate set role reader \\\n    --allow +table.view \\\n    --dry-run\nshort\n", out.String())
	out.Reset()
	p.Whole = true
	p.Line("  one two three four five six seven")
	assert.Equal(t, "  one two three four five six seven\n", out.String())
}
