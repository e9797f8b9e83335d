package addition

import (
	"encoding/json"
	"strings"

	"go.yaml.in/yaml/v3"
)

// emit writes a node as YAML. What was written in braces stays so, and plain scalars stay as they are written: an
// encoder would put quotes around times of day.
func emit(b *strings.Builder, n *yaml.Node, indent int) {
	switch {
	case n.Kind == yaml.MappingNode && n.Style&yaml.FlowStyle == 0 && len(n.Content) > 0:
		for i := 0; i+1 < len(n.Content); i += 2 {
			b.WriteString("\n" + strings.Repeat("  ", indent))
			emitFlow(b, n.Content[i])
			b.WriteByte(':')
			emitValue(b, n.Content[i+1], indent)
		}
	case n.Kind == yaml.SequenceNode && n.Style&yaml.FlowStyle == 0 && len(n.Content) > 0:
		for _, x := range n.Content {
			b.WriteString("\n" + strings.Repeat("  ", indent) + "-")
			emitValue(b, x, indent)
		}
	default:
		emitFlow(b, n)
	}
}

// emitValue writes what stands behind a key or a dash.
func emitValue(b *strings.Builder, n *yaml.Node, indent int) {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if n.Kind == yaml.ScalarNode || n.Style&yaml.FlowStyle != 0 || len(n.Content) == 0 {
		b.WriteByte(' ')
	}
	emit(b, n, indent+1)
}

// emitFlow writes a node in one line.
func emitFlow(b *strings.Builder, n *yaml.Node) {
	switch n.Kind {
	case yaml.AliasNode:
		emitFlow(b, n.Alias)
	case yaml.MappingNode, yaml.SequenceNode:
		open, end, step := "[", "]", 1
		if n.Kind == yaml.MappingNode {
			open, end, step = "{", "}", 2
		}
		b.WriteString(open)
		for i := 0; i < len(n.Content); i += step {
			if i > 0 {
				b.WriteString(", ")
			}
			emitFlow(b, n.Content[i])
			if step == 2 {
				b.WriteString(": ")
				emitFlow(b, n.Content[i+1])
			}
		}
		b.WriteString(end)
	case yaml.ScalarNode:
		if n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) == 0 {
			b.WriteString(n.Value)
			return
		}
		quoted, _ := json.Marshal(n.Value) // a string always can be
		b.Write(quoted)
	}
}
