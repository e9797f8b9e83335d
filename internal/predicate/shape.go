package predicate

import "strings"

var classes = strings.NewReplacer(
	"[:alnum:]",
	"A-Za-z0-9",
	"[:alpha:]",
	"A-Za-z",
	"[:digit:]",
	"0-9",
	"[:lower:]",
	"a-z",
	"[:upper:]",
	"A-Z",
	"[:xdigit:]",
	"0-9a-f",
	"[:space:]",
	" ",
	"[:word:]",
	"A-Za-z0-9_",
)

// Shape is a pattern of texts that a condition with LIKE or a regular expression asks for; its second argument is a
// literal.
func Shape(n *Node) string {
	p := n.Args[1].Value.S
	if n.Op == Like {
		return likeShape(p)
	}
	p = classes.Replace(strings.TrimSuffix(strings.TrimPrefix(strings.TrimPrefix(p, "(?i)"), "^"), "$"))
	return strings.NewReplacer("(?:", "(", `\A`, "", `\Z`, "", `\z`, "").Replace(p)
}

// Bounded gives repetitions without an end a short one.
func Bounded(p string) string {
	var b strings.Builder
	inClass := false
	for i := 0; i < len(p); i++ {
		switch {
		case p[i] == '\\' && i+1 < len(p):
			b.WriteString(p[i : i+2])
			i++
			continue
		case p[i] == '[':
			inClass = true
		case p[i] == ']':
			inClass = false
		case !inClass && p[i] == '+':
			b.WriteString("{1,6}")
			continue
		case !inClass && p[i] == '*':
			b.WriteString("{0,4}")
			continue
		}
		b.WriteByte(p[i])
	}
	return b.String()
}

// likeShape makes a pattern of the texts that LIKE takes.
func likeShape(like string) string {
	var b strings.Builder
	for i := 0; i < len(like); i++ {
		switch c := like[i]; {
		case c == '\\' && i+1 < len(like):
			i++
			b.WriteString(quoteMeta(like[i]))
		case c == '%':
			b.WriteString("[a-z]{3}")
		case c == '_':
			b.WriteString("[a-z]")
		default:
			b.WriteString(quoteMeta(c))
		}
	}
	return b.String()
}

// quoteMeta writes a character so that a regular expression takes it literally.
func quoteMeta(c byte) string {
	if strings.IndexByte(`\.+*?()|[]{}^$`, c) >= 0 {
		return `\` + string(rune(c))
	}
	return string([]byte{c})
}
