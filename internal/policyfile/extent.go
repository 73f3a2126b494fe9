package policyfile

import (
	"bytes"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// lineStarts gives the byte at which each line of a text begins.
func lineStarts(text []byte) []int {
	starts := []int{0}
	for i, c := range text {
		if c == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}

// offset gives the byte at which a node begins; YAML counts columns in characters.
func (r *reader) offset(n *yaml.Node) int {
	if n.Line < 1 || n.Line > len(r.starts) {
		return len(r.text)
	}
	at := r.starts[n.Line-1]
	for c := 1; c < n.Column && at < len(r.text); c++ {
		_, size := utf8.DecodeRune(r.text[at:])
		at += size
	}
	return at
}

// extent gives the bytes of the entry that key begins in a mapping: key and value, with the comments inside it and
// none around it.
func (r *reader) extent(mapping, key *yaml.Node) (start, end int) {
	start = r.offset(key)
	if mapping.Style&yaml.FlowStyle != 0 {
		return start, r.flowEnd(start)
	}
	return start, r.blockEnd(start, key)
}

// blockEnd goes on as long as lines are indented deeper than the key, or begin a list at its column.
func (r *reader) blockEnd(start int, key *yaml.Node) int {
	end := r.lineEnd(key.Line)
	for line := key.Line + 1; line <= len(r.starts); line++ {
		text := bytes.TrimRight(r.text[r.starts[line-1]:r.lineEnd(line)], " \t\r")
		content := bytes.TrimLeft(text, " ")
		indent := len(text) - len(content)
		switch {
		case len(content) == 0, content[0] == '#' && indent < key.Column:
			continue // inside only if more of the entry follows
		case indent >= key.Column, indent == key.Column-1 && (bytes.HasPrefix(content, []byte("- ")) || string(content) == "-"):
			end = r.starts[line-1] + len(text)
		default:
			return max(end, start)
		}
	}
	return max(end, start)
}

// lineEnd is where a line ends, its line break excluded.
func (r *reader) lineEnd(line int) int {
	if line < len(r.starts) {
		return r.starts[line] - 1
	}
	return len(r.text)
}

// flowEnd goes on to the comma or bracket that ends an entry written in braces.
func (r *reader) flowEnd(start int) int {
	depth, quote, end := 0, byte(0), start
	for i := start; i < len(r.text); i++ {
		c := r.text[i]
		switch {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && bytes.IndexByte([]byte(" ,[{:\n"), r.text[max(i-1, 0)]) >= 0:
			quote = c
		case c == '#' && i > 0 && (r.text[i-1] == ' ' || r.text[i-1] == '\n'):
			for i < len(r.text) && r.text[i] != '\n' {
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
			end = min(i+1, len(r.text))
		}
	}
	return end
}
