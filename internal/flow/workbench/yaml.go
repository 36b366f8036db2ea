package workbench

import (
	"bytes"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// object makes a mapping of keys (strings) and values (nodes), in this order.
func object(pairs ...any) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode}
	for i, one := range pairs {
		if i%2 == 0 {
			n.Content = append(n.Content, scalar(one.(string)))
		} else {
			n.Content = append(n.Content, one.(*yaml.Node))
		}
	}
	return n
}

// scalar is a value that YAML reads as it stands: a number, a truth value, a key.
func scalar(value string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Value: value} }

// literal is a text where recipes expand nothing.
func literal(value string) *yaml.Node {
	n := &yaml.Node{}
	n.SetString(value)
	return n
}

// text is a text in which nothing is to be expanded.
func text(value string) *yaml.Node { return literal(unexpanded(value)) }

// quoted is text that YAML must not take for a number.
func quoted(value string) *yaml.Node {
	n := text(value)
	n.Style = yaml.DoubleQuotedStyle
	return n
}

func unexpanded(value string) string { return strings.ReplaceAll(value, "${", "$${") }

// plain takes the meaning out of all texts of a value.
func plain(n *yaml.Node) {
	n.Value = unexpanded(n.Value)
	n.HeadComment, n.LineComment, n.FootComment = "", "", ""
	for _, one := range n.Content {
		plain(one)
	}
}

func literals(values []string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.SequenceNode}
	for _, one := range values {
		n.Content = append(n.Content, literal(one))
	}
	return n
}

// several is one text alone, or a list.
func several(values []string) *yaml.Node {
	if len(values) == 1 {
		return text(values[0])
	}
	n := &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
	for _, one := range values {
		n.Content = append(n.Content, text(one))
	}
	return n
}

func texts(values map[string]string) *yaml.Node {
	n := object()
	for _, key := range slices.Sorted(maps.Keys(values)) {
		n.Content = append(n.Content, literal(key), text(values[key]))
	}
	return n
}

func flowed(n *yaml.Node) *yaml.Node {
	n.Style = yaml.FlowStyle
	return n
}

// at returns the value of a key; nil where it is not there.
func at(n *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// replace gives a key a value.
func replace(n *yaml.Node, key string, value *yaml.Node) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			n.Content[i+1] = value
			return
		}
	}
	n.Content = append(n.Content, literal(key), value)
}

// plainPattern is a path where recipes take patterns.
var plainPattern = strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "{", `\{`).Replace

func encode(n *yaml.Node) []byte {
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	_ = e.Encode(n) // into memory, of nodes that were made here
	_ = e.Close()
	return out.Bytes()
}
