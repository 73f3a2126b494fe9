// Package splice changes YAML text by entry and key: every byte that is not part of the change stays. It knows no
// policy.
package splice

import (
	"bytes"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// Text is a YAML file, with the places at which its lines begin.
type Text struct {
	Bytes  []byte
	starts []int
}

// NewText finds the lines of a text.
func NewText(text []byte) *Text {
	starts := make([]int, 1, 1+bytes.Count(text, []byte{'\n'}))
	for at := 0; ; {
		i := bytes.IndexByte(text[at:], '\n')
		if i < 0 {
			return &Text{text, starts}
		}
		at += i + 1
		starts = append(starts, at)
	}
}

// LineStart gives the byte at which a line begins, 1 being the first.
func (t *Text) LineStart(line int) int {
	if line > len(t.starts) {
		return len(t.Bytes)
	}
	return t.starts[line-1]
}

// lineEnd is where a line ends, its line break excluded.
func (t *Text) lineEnd(line int) int {
	if line < len(t.starts) {
		return t.starts[line] - 1
	}
	return len(t.Bytes)
}

// line gives a line without its break and what is blank at its end.
func (t *Text) line(line int) []byte {
	return bytes.TrimRight(t.Bytes[t.LineStart(line):t.lineEnd(line)], " \t\r")
}

// lineAt gives the line in which a byte stands.
func (t *Text) lineAt(at int) int {
	low, high := 0, len(t.starts)
	for high-low > 1 {
		if half := (low + high) / 2; t.starts[half] <= at {
			low = half
		} else {
			high = half
		}
	}
	return low + 1
}

// Offset gives the byte at a line and column; YAML counts columns in characters.
func (t *Text) Offset(line, column int) int {
	if line < 1 || line > len(t.starts) {
		return len(t.Bytes)
	}
	at := t.starts[line-1]
	for c := 1; c < column && at < len(t.Bytes); c++ {
		_, size := utf8.DecodeRune(t.Bytes[at:])
		at += size
	}
	return at
}

// Extent gives the bytes of the entry that key begins in a mapping: key and value, with the comments inside it and none
// around it.
func (t *Text) Extent(mapping, key *yaml.Node) (start, end int) {
	start = t.Offset(key.Line, key.Column)
	if mapping.Style&yaml.FlowStyle != 0 {
		return start, t.flowEnd(start)
	}
	return start, t.blockEnd(start, key)
}

// blockEnd goes on as long as lines are indented deeper than the key, or begin a list at its column.
func (t *Text) blockEnd(start int, key *yaml.Node) int {
	end := t.lineEnd(key.Line)
	for line := key.Line + 1; line <= len(t.starts); line++ {
		text := t.line(line)
		content := bytes.TrimLeft(text, " ")
		indent := len(text) - len(content)
		switch {
		case len(content) == 0, content[0] == '#' && indent < key.Column:
			continue // inside only if more of the entry follows
		case indent >= key.Column, indent == key.Column-1 &&
			(bytes.HasPrefix(content, []byte("- ")) || string(content) == "-"):
			end = t.LineStart(line) + len(text)
		default:
			return max(end, start)
		}
	}
	return max(end, start)
}

// flowEnd goes on to the comma or bracket that ends an entry written in braces.
func (t *Text) flowEnd(start int) int {
	depth, quote, end := 0, byte(0), start
	for i := start; i < len(t.Bytes); i++ {
		c := t.Bytes[i]
		switch {
		case quote == '"' && c == '\\':
			i++
		case quote == '\'' && c == quote && i+1 < len(t.Bytes) && t.Bytes[i+1] == quote:
			i++ // a doubled quote is one in the text
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && bytes.IndexByte([]byte(" ,[{:\n"), t.Bytes[max(i-1, 0)]) >= 0:
			quote = c
		case c == '#' && i > 0 && (t.Bytes[i-1] == ' ' || t.Bytes[i-1] == '\n'):
			for i < len(t.Bytes) && t.Bytes[i] != '\n' {
				i++
			}
			continue
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			if depth--; depth < 0 {
				return end
			}
		case c == ',' && depth == 0:
			return end
		}
		if c != ' ' && c != '\n' && c != '\t' && c != '\r' {
			end = min(i+1, len(t.Bytes))
		}
	}
	return end
}

// end gives where a node in block style ends, whose entry key begins, and endInFlow where one between braces or
// brackets does.
func (t *Text) end(n, key *yaml.Node) int {
	start := t.Offset(n.Line, n.Column)
	if end, ok := t.ownEnd(n, start); ok {
		return end
	}
	return t.blockEnd(start, key)
}

func (t *Text) endInFlow(n *yaml.Node) int {
	start := t.Offset(n.Line, n.Column)
	if end, ok := t.ownEnd(n, start); ok {
		return end
	}
	return t.flowEnd(start)
}

// endIn does what fits the mapping in which the entry stands.
func (t *Text) endIn(mapping, n, key *yaml.Node) int {
	if mapping.Style&yaml.FlowStyle != 0 {
		return t.endInFlow(n)
	}
	return t.end(n, key)
}

// ownEnd gives where a node ends that tells by itself.
func (t *Text) ownEnd(n *yaml.Node, start int) (end int, ok bool) {
	switch {
	case n.Style&yaml.FlowStyle != 0:
		return t.bracketEnd(start), true
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0:
		return t.quoteEnd(start), true
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) == 0 &&
		bytes.HasPrefix(t.Bytes[start:], []byte(n.Value)):
		return start + len(n.Value), true
	}
	return 0, false
}

// bracketEnd gives the place behind the bracket that closes the one at start.
func (t *Text) bracketEnd(start int) int {
	at := start + 1
	for {
		at = t.flowEnd(at)
		for at < len(t.Bytes) && bytes.IndexByte([]byte(",]}"), t.Bytes[at]) < 0 {
			if t.Bytes[at] == '#' {
				at = t.lineEnd(t.lineAt(at))
				continue
			}
			at++
		}
		if at >= len(t.Bytes) || t.Bytes[at] != ',' {
			return min(at+1, len(t.Bytes))
		}
		at++
	}
}

// quoteEnd gives the place behind the quote that closes the one at start.
func (t *Text) quoteEnd(start int) int {
	if start >= len(t.Bytes) {
		return len(t.Bytes)
	}
	quote := t.Bytes[start]
	for i := start + 1; i < len(t.Bytes); i++ {
		switch {
		case t.Bytes[i] == '\\' && quote == '"':
			i++
		case t.Bytes[i] == quote && quote == '\'' && i+1 < len(t.Bytes) && t.Bytes[i+1] == '\'':
			i++
		case t.Bytes[i] == quote:
			return i + 1
		}
	}
	return len(t.Bytes)
}
