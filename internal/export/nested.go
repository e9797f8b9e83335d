package export

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"slices"

	"evensprout/internal/cell"
	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
)

// References says what stands in the place of a reference.
type References string

// What stands in the place of a reference.
const (
	Keys  References = "keys"  // the value that the table keeps
	Rows  References = "rows"  // the row that it points to, without its own references' rows
	Named References = "names" // the name of that row: Sailing row 17
)

// nester writes rows as JSON objects, with the rows planned per them inside.
type nester struct {
	*exporter
	references References
	children   map[*grow.Entity][]*plan.Target
	columns    map[*plan.Target][]column
	prints     map[*plan.Target]*grow.Fingerprint
	refused    error // of a value that no reader would read back
}

// newNester finds which rows belong to which.
func newNester(c *plan.Compiled, o Options, references References) *nester {
	o.Format = "json"
	n := &nester{
		exporter:   newExporter(c, o),
		references: references,
		children:   map[*grow.Entity][]*plan.Target{},
		columns:    map[*plan.Target][]column{},
		prints:     map[*plan.Target]*grow.Fingerprint{},
	}
	for _, t := range c.Targets {
		n.columns[t], n.prints[t] = n.columnsOf(t), &grow.Fingerprint{}
		if t.Grow.Parent != nil {
			n.children[t.Grow.Parent] = append(n.children[t.Grow.Parent], t)
		}
	}
	return n
}

// One writes a row with everything below it.
func One(c *plan.Compiled, o Options, t *plan.Target, row grow.Row, out io.Writer) error {
	n := newNester(c, o, o.References)
	defer n.close()
	b := n.append(nil, t, row, "\n")
	if err := n.err(); err != nil {
		return err
	}
	_, err := out.Write(append(b, '\n'))
	return err
}

// Nested writes all rows as one JSON document: under the name of each entity without a
// parent, a list of its rows with those below them inside. file is what the manifest calls it.
func Nested(ctx context.Context, c *plan.Compiled, o Options, file string, out io.Writer) (*files.Manifest, error) {
	n := newNester(c, o, o.References)
	defer n.close()
	if err := n.write(ctx, out); err != nil {
		return nil, err
	}
	for _, t := range n.targets {
		about, err := n.describe(t, n.columns[t])
		if err != nil {
			return nil, err
		}
		about.File, about.Inside, about.Fingerprint = file, n.inside(t), *n.prints[t]
	}
	return n.manifest, nil
}

// inside are the lists that hold the rows of an entity: Order.Line.
func (n *nester) inside(t *plan.Target) string {
	if up := t.Grow.Parent; up != nil {
		for _, parent := range n.targets {
			if parent.Grow == up {
				return n.inside(parent) + "." + n.nameOf(t)
			}
		}
	}
	return n.nameOf(t)
}

// write writes the document.
// err is why a row cannot be written.
func (n *nester) err() error {
	if n.refused != nil {
		return n.refused
	}
	return n.grower.Err()
}

func (n *nester) write(ctx context.Context, out io.Writer) error {
	w := bufio.NewWriter(out)
	var b []byte
	between := "{\n"
	for _, t := range n.targets {
		if t.Grow.Parent != nil &&
			slices.ContainsFunc(n.targets, func(up *plan.Target) bool { return up.Grow == t.Grow.Root() }) {
			continue
		}
		fmt.Fprintf(w, "%s%s: [", between, cell.AppendJSONText(nil, n.nameOf(t)))
		between = ",\n"
		rows := 0
		for _, run := range order.Runs(n.grower, t, n.o.Part) {
			for i := range run.Rows {
				if rows%order.SliceRows == 0 && ctx.Err() != nil {
					return context.Cause(ctx)
				}
				b = b[:0]
				if rows > 0 {
					b = append(b, ',')
				}
				b = n.append(append(b, '\n'), t, grow.Row{N: run.First.N + i, Side: run.First.Side}, "")
				if err := n.err(); err != nil {
					return err
				}
				if _, err := w.Write(b); err != nil {
					return err
				}
				rows++
			}
		}
		fmt.Fprint(w, "\n]")
	}

	if between == "{\n" {
		fmt.Fprint(w, "{")
	}
	fmt.Fprint(w, "\n}\n")
	return w.Flush()
}

// nameOf is what an entity's rows are called: by the entity, or by the table.
func (n *nester) nameOf(t *plan.Target) string {
	if n.o.Names == Columns && t.Table != nil {
		return t.Table.Name
	}
	return t.Plan.Name
}

// append appends a row as an object; line begins each of its lines, if it is not empty.
func (n *nester) append(b []byte, t *plan.Target, row grow.Row, line string) []byte {
	inner := line
	if line != "" {
		inner = line + "  "
	}
	b = n.appendFields(append(b, '{'), t, row, inner, n.references)
	for _, child := range n.children[t.Grow] {
		from, to := n.grower.Below(child.Grow, row)
		b = cell.AppendJSONText(n.comma(b, inner), n.nameOf(child))
		b = append(b, ": ["...)
		deep := inner
		if inner != "" {
			deep = inner + "  "
		}
		for i := from; i < to; i++ {
			if i > from {
				b = append(b, ',')
			}
			b = n.append(append(b, deep...), child, grow.Row{N: i, Side: row.Side}, deep)
		}
		if to > from {
			b = append(b, inner...)
		}
		b = append(b, ']')
	}
	return append(append(b, line...), '}')
}

// comma begins another member of an object.
func (n *nester) comma(b []byte, line string) []byte {
	if b[len(b)-1] != '{' {
		b = append(b, ',')
		if line == "" {
			b = append(b, ' ')
		}
	}
	return append(b, line...)
}

// appendFields appends the fields of a row as members of an object.
func (n *nester) appendFields(b []byte, t *plan.Target, row grow.Row, line string, references References) []byte {
	var batch grow.Batch
	n.grower.Grow(t.Grow, row, 1, &batch)
	if references == n.references { // else it stands for a reference
		n.prints[t].Add(batch.Print)
	}
	values := batch.Row(0)
	for _, c := range n.columns[t] {
		if c.target != nil && c.target == t.Grow.Parent && references == Rows {
			continue // it stands around this row
		}
		b = cell.AppendJSONText(n.comma(b, line), c.Name)
		b = append(b, ": "...)
		to, refers := grow.Row{}, false
		if c.target != nil && references != Keys {
			to, refers = n.grower.Refers(t.Grow, row, t.Grow.Fields[c.field])
		}
		switch {
		case refers && references == Named:
			b = cell.AppendJSONText(b, c.target.Label(to))
		case refers:
			i := slices.IndexFunc(n.plan.Targets, func(x *plan.Target) bool { return x.Grow == c.target })
			inner := line
			if line != "" {
				inner += "  "
			}
			b = n.appendFields(append(b, '{'), n.plan.Targets[i], to, inner, Keys)
			b = append(append(b, line...), '}')
		default:
			if err := files.RefuseNUL(&values[c.field], c.Name); err != nil && n.refused == nil {
				n.refused = fmt.Errorf("%s: %w", t.Grow.Label(row), err)
			}
			b = files.AppendJSON(b, &values[c.field])
		}
	}
	return b
}
