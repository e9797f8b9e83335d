package merge

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
)

// Digests stand in comments at the end of a plan. They say which lines are as survey wrote them, and what their columns
// were then: 4 bytes of a digest of the field's name, 3 of its line, 3 of its column, for each field.
const (
	digestsNote = "# The digests tell survey --into which lines are as it wrote them."
	digestsMark = "# drafted 1: "

	keyBytes, partBytes = 4, 3
	entryBytes          = keyBytes + 2*partBytes
	bytesOfALine        = 75
)

type (
	key    [keyBytes]byte
	part   [partBytes]byte
	digest struct{ line, column part }
)

func keyOf(entity, field string) key { return key(sum(entity, field)[:keyBytes]) }

// partOf is of a line without regard to blanks.
func partOf(line string) part { return part(sum(strings.Fields(line)...)[:partBytes]) }

func sum(list ...string) []byte {
	h := sha256.New()
	for _, s := range list {
		fmt.Fprintf(h, "%d:%s", len(s), s)
	}
	return h.Sum(nil)
}

// partOfColumn is of all that a draft looks at in a column itself.
func partOfColumn(t *schema.Table, c *schema.Column) part {
	list := []string{c.Declared, fmt.Sprint(c.Kind, c.Length, c.Precision, c.Scale, c.NotNull, c.Generated), c.Preset}
	list = append(list, c.Values...)
	for _, x := range c.Checks {
		list = append(list, x.Expression)
	}
	word := regexp.MustCompile(`(?i)\b` + regexp.QuoteMeta(c.Name) + `\b`)
	for _, x := range t.Checks {
		if word.MatchString(x.Expression) {
			list = append(list, x.Expression)
		}
	}
	for _, u := range t.Keys() {
		if slices.Contains(u.Columns, c.Name) {
			list = append(list, strings.Join(u.Columns, ","))
		}
	}
	return part(sum(list...)[:partBytes])
}

// readDigests are the digests of a plan's lines; none if somebody has changed them.
func readDigests(lines []string) map[key]digest {
	var all []byte
	for _, l := range lines {
		if text, ok := strings.CutPrefix(l, digestsMark); ok {
			b, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(text, " \r"))
			if err != nil {
				return nil
			}
			all = append(all, b...)
		}
	}
	if len(all)%entryBytes != 0 {
		return nil
	}
	out := map[key]digest{}
	for e := range slices.Chunk(all, entryBytes) {
		out[key(e)] = digest{line: part(e[keyBytes:]), column: part(e[keyBytes+partBytes:])}
	}
	return out
}

// ofDigests reports whether a line belongs to the digests.
func ofDigests(line string) bool {
	return strings.HasPrefix(line, digestsMark) || strings.TrimRight(line, " \r") == digestsNote
}

// Sign adds to a plan that survey has drafted what Plan needs to know later.
func Sign(file, text string, db *schema.Database) (string, error) {
	return signed(file, text, db, "", func(_, _, line string) (part, bool) { return partOf(line), true })
}

// signed adds the digests of those fields whose lines have one.
func signed(file, text string, db *schema.Database, ending string, of func(entity, field, line string) (part, bool)) (
	string, error,
) {
	p, err := plan.Read(file, []byte(text))
	if err != nil {
		return "", err
	}
	lines := strings.Split(text, "\n")
	var all []byte
	layout, _ := p.Layout(db)
	for _, e := range layout.Entities {
		for _, f := range e.Fields {
			if f.Column == nil {
				continue
			}
			if line, ok := of(e.Name, f.Name, lines[f.Line-1]); ok {
				k, column := keyOf(e.Name, f.Name), partOfColumn(e.Table, f.Column)
				all = slices.Concat(all, k[:], line[:], column[:])
			}
		}
	}
	if len(all) == 0 {
		return text, nil
	}
	var b bytes.Buffer
	b.WriteString(text)
	if !strings.HasSuffix(text, "\n") {
		b.WriteString(ending + "\n")
	}
	if !strings.HasSuffix(text, "\n"+ending+"\n") {
		b.WriteString(ending + "\n")
	}
	b.WriteString(digestsNote + ending + "\n")
	for chunk := range slices.Chunk(all, bytesOfALine) {
		b.WriteString(digestsMark + base64.RawStdEncoding.EncodeToString(chunk) + ending + "\n")
	}
	return b.String(), nil
}
