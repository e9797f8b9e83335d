package addition

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"evensprout/internal/schema"
	"evensprout/internal/sources"
	"evensprout/internal/value"
)

// text is a scalar that is a text, whatever it looks like.
func text(s string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Value: s}
	if !word.MatchString(s) || slices.Contains(notWords, strings.ToLower(s)) {
		n.Style = yaml.DoubleQuotedStyle
	}
	return n
}

// word is a text that needs no quotes, unless it is one of notWords.
var (
	word     = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)
	notWords = []string{"true", "false", "yes", "no", "on", "off", "y", "n", "null"}
)

// plain is a scalar as it is written.
func plain(s string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Value: s} }

// number is a whole number.
func number(n uint64) *yaml.Node { return plain(strconv.FormatUint(n, 10)) }

// literal is a value of a column, as a plan writes it.
func literal(c *schema.Column, v value.Value) *yaml.Node {
	if v.IsNull() {
		return plain("null")
	}
	switch v.Type {
	case value.Integer, value.Decimal, value.Boolean, value.Date, value.Time, value.Timestamp:
		if c.Kind != schema.Text {
			s := sources.Chosen(c, []value.Value{v}).Text
			return plain(strings.TrimSuffix(strings.TrimPrefix(s, "{choose: ["), "]}"))
		}
	}
	n := text(v.String()) // what stands in the database is not trusted
	n.Style = yaml.DoubleQuotedStyle
	return n
}

// mapping is a mapping of one key, in braces.
func mapping(key string, v *yaml.Node) *yaml.Node {
	return &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle, Content: []*yaml.Node{text(key), v}}
}

// get is the value of a key; nil if there is none.
func get(m *yaml.Node, key string) *yaml.Node {
	if m == nil || m.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			return m.Content[i+1]
		}
	}
	return nil
}

// scalarOf is the scalar of a key; empty if there is none.
func scalarOf(m *yaml.Node, key string) string {
	if v := get(m, key); v != nil && v.Kind == yaml.ScalarNode {
		return v.Value
	}
	return ""
}

// set gives a key a value.
func set(m *yaml.Node, key string, v *yaml.Node) {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			m.Content[i+1] = v
			return
		}
	}
	m.Content = append(m.Content, text(key), v)
}

// remove takes a key out.
func remove(m *yaml.Node, key string) {
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == key {
			m.Content = append(m.Content[:i], m.Content[i+2:]...)
			return
		}
	}
}

// child is the mapping of a key, which is made if there is none.
func child(m *yaml.Node, key string) *yaml.Node {
	if v := get(m, key); v != nil && v.Kind == yaml.MappingNode {
		return v
	}
	v := &yaml.Node{Kind: yaml.MappingNode}
	set(m, key, v)
	return v
}
