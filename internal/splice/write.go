package splice

import (
	"bytes"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"

	"hiddengate/internal/visible"
)

// Wide is how many characters a line may have before a value is written over several.
const Wide = 100

// Scalar makes a node of a text.
func Scalar(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
}

// List makes a node of several.
func List(items ...*yaml.Node) *yaml.Node {
	return &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Content: items}
}

// Map makes a node of keys and values by turns.
func Map(pairs ...*yaml.Node) *yaml.Node {
	return &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Content: pairs}
}

// Value reads one value as it stands in a YAML file.
func Value(text string) (*yaml.Node, error) {
	loader, err := yaml.NewLoader(strings.NewReader(text))
	if err != nil {
		return nil, err
	}
	var root yaml.Node
	if err := loader.Load(&root); err != nil {
		return nil, err
	}
	if root.Kind == yaml.DocumentNode && len(root.Content) == 1 {
		return root.Content[0], nil
	}
	return &root, nil
}

// Flow writes a value on one line.
func Flow(n *yaml.Node) string {
	var b strings.Builder
	flow(&b, n)
	return b.String()
}

func flow(b *strings.Builder, n *yaml.Node) {
	switch n.Kind {
	case yaml.SequenceNode:
		b.WriteByte('[')
		for i, c := range n.Content {
			if i > 0 {
				b.WriteString(", ")
			}
			flow(b, c)
		}
		b.WriteByte(']')
	case yaml.MappingNode:
		b.WriteByte('{')
		for i := 0; i+1 < len(n.Content); i += 2 {
			if i > 0 {
				b.WriteString(", ")
			}
			flow(b, n.Content[i])
			b.WriteString(": ")
			flow(b, n.Content[i+1])
		}
		b.WriteByte('}')
	default:
		b.WriteString(flowScalar(n))
	}
}

// scalar writes a text on its own line plainly where it stays what it is, in quotes elsewhere.
func scalar(n *yaml.Node) string { return written(n, "%[1]s: %[1]s\n") }

// flowScalar writes it between braces or brackets.
func flowScalar(n *yaml.Node) string { return written(n, "{%[1]s: %[1]s}\n", "{k: [%[1]s]}\n") }

// scalarIn writes it as a mapping's key or value.
func scalarIn(mapping, n *yaml.Node) string {
	if mapping.Style&yaml.FlowStyle != 0 {
		return flowScalar(n)
	}
	return scalar(n)
}

// written writes a text that is to stand as in some trials.
func written(n *yaml.Node, trials ...string) string {
	quoted := n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0
	if !quoted && n.Value != "" && plain(n.Value, trials) {
		return n.Value
	}
	// What was quoted to be a text and not a number or truth value stays quoted.
	if quoted && n.Value != "" && plain(n.Value, trials) {
		if again, err := Value(n.Value); err == nil && again.Tag == "!!str" {
			return n.Value
		}
	}
	return inQuotes(n.Value)
}

// inQuotes writes a text in double quotes, with escapes for what can't be seen or would be read otherwise.
func inQuotes(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteString(`\` + string(r))
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case visible.Hidden(r) && r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		case visible.Hidden(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// plain says whether a text is the same text when it stands without quotes as in each of the trials.
func plain(text string, trials []string) bool {
	if _, _, hidden := visible.Find(text); hidden || strings.ContainsAny(text, "\n\t\ufeff") ||
		text != strings.TrimSpace(text) || text == "=" || text == "<<" || strings.HasPrefix(text, "---") ||
		strings.HasPrefix(text, "...") {
		return false
	}
	for _, trial := range trials {
		n, err := Value(fmt.Sprintf(trial, text))
		if err != nil || n.Kind != yaml.MappingNode || len(n.Content) != 2 {
			return false
		}
		if list := n.Content[1]; list.Kind == yaml.SequenceNode {
			n = &yaml.Node{Content: list.Content}
		}
		for _, one := range n.Content {
			if one.Kind != yaml.ScalarNode || one.Value != text || one.Tag == "!!null" || one.Tag == "!!merge" ||
				one.Anchor != "" || one.Style != 0 || one.LineComment != "" {
				return false
			}
		}
		if len(n.Content) == 0 {
			return false
		}
	}
	return true
}

// Entry writes a key with its value as lines, the first of which is not indented: on one line if that is short, else
// its keys one a line.
func Entry(key string, value *yaml.Node, indent int) string {
	head := scalar(Scalar(key)) + ": "
	if one := Flow(value); indent+len([]rune(head))+len([]rune(one)) <= Wide || value.Kind == yaml.ScalarNode ||
		len(value.Content) == 0 {
		if value.Kind == yaml.ScalarNode {
			one = scalar(value)
		}
		return head + one
	}
	var b bytes.Buffer
	b.WriteString(strings.TrimSuffix(head, " "))
	block(&b, value, indent+2)
	return b.String()
}

// block writes a list or mapping as lines, each begun by a line break.
func block(b *bytes.Buffer, n *yaml.Node, indent int) {
	margin := "\n" + strings.Repeat(" ", indent)
	if n.Kind == yaml.SequenceNode {
		for _, c := range n.Content {
			b.WriteString(margin + "- ")
			if c.Kind == yaml.ScalarNode {
				b.WriteString(scalar(c))
			} else {
				b.WriteString(Flow(c))
			}
		}
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		b.WriteString(margin + Entry(n.Content[i].Value, n.Content[i+1], indent))
	}
}

// Under gives the value under a key of a mapping; nil if there is none.
func Under(n *yaml.Node, key string) *yaml.Node {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}
