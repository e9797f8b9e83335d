package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"evensprout/internal/addition"
	"evensprout/internal/ask"
	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/lookup"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// mostLabels bounds how many rows of a table are offered for a reference.
const mostLabels = 1000

// askRow asks for the fields of a row and for whether there is another one.
func (a *program) askRow(
	ctx context.Context, c *plan.Compiled, s store.Store, r addition.Request, add func(addition.Request) error,
) (more bool, err error) {
	in, ok := a.ws.In.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return false, diag.Usagef(
			"--ask needs a terminal; name the fields instead, as in evensprout add %s FIELD=VALUE",
			r.Entity,
		)
	}
	fields, err := a.questions(ctx, c, s, r)
	if err != nil {
		return false, err
	}
	faint := func(text string) string { return text }
	if a.errPage.Color {
		faint = func(text string) string { return "\x1b[2m" + text + "\x1b[22m" }
	}
	title := a.errPage.Bold(r.Entity) + ": leave an answer empty to take what is shown"
	answers, ok, err := ask.Form(in, a.errFile, title, fields, faint)
	if err != nil {
		return false, err
	}
	if !ok {
		fmt.Fprintln(a.err, "nothing was added")
		return false, nil
	}
	fmt.Fprintln(a.err)
	for i, answer := range answers {
		if answer != "" {
			r.Values = append(r.Values, addition.Value{Field: fields[i].Name, Text: answer})
		}
	}
	if err := add(r); err != nil {
		return false, err
	}
	fmt.Fprint(a.err, "\nAnother? [y/N] ")
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && line == "" {
		return false, nil
	}
	return strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y"), nil
}

// questions are the fields that are asked for, but for those that the call names.
func (a *program) questions(
	ctx context.Context, c *plan.Compiled, s store.Store, r addition.Request,
) ([]ask.Field, error) {
	list, t, err := addition.Questions(c, r.Entity)
	if err != nil {
		return nil, err
	}
	defaults := sampleRow(c, t)
	var out []ask.Field
	for _, q := range list {
		if slices.ContainsFunc(r.Values, func(v addition.Value) bool {
			return schema.Plain(v.Field) == schema.Plain(q.Field) ||
				schema.Plain(v.Field) == schema.Plain(q.Column.Name)
		}) {
			continue
		}
		f := ask.Field{Name: q.Field, About: aboutColumn(q.Column)}
		if q.To != nil {
			labels, err := lookup.Labels(ctx, s, q.To.Table, mostLabels)
			if err != nil {
				return nil, err
			}
			f.About = "a row of " + q.To.Plan.Name
			f.Default = "one that is there, or a new one"
			if !q.Column.NotNull {
				f.Default = "none"
			}
			f.Offers = func(typed string) []string { return matching(labels, typed) }
			f.Check = func(text string) error {
				if entity, _, dotted := strings.Cut(text, "."); dotted && entity == q.To.Plan.Name {
					return nil // a row of the plan: the addition looks for it
				}
				_, err := lookup.Find(ctx, s, q.To.Table, q.To.Plan.Name, text)
				return err
			}
		} else {
			f.Default = defaults[q.Column]
			if f.Default == "" {
				f.Default = map[bool]string{true: "needed", false: "none"}[q.Column.NotNull && !q.Column.Default]
			}
			if q.Column.Values != nil {
				f.Offers = func(typed string) []string { return matching(q.Column.Values, typed) }
			}
			f.Check = func(text string) error {
				_, err := lookup.Check(t.Table, q.Column, text)
				return err
			}
		}
		out = append(out, f)
	}
	return out, nil
}

// sampleRow is what the plan makes of the first row of an entity.
func sampleRow(c *plan.Compiled, t *plan.Target) map[*schema.Column]string {
	g := grow.NewGrower(c.Set)
	defer g.Close()
	out := map[*schema.Column]string{}
	if t.Grow.Total() == 0 {
		return out
	}
	row := grow.Row{Side: t.Grow.Rows == 0 && t.Grow.Parent == nil}
	var b grow.Batch
	g.Grow(t.Grow, row, 1, &b)
	if g.Err() != nil || b.Len == 0 {
		return out
	}
	for i, f := range t.Grow.Fields {
		if c := t.Columns[i]; c != nil && !f.Inner && f.Target() == nil {
			out[c] = "such as " + safe.OneLine(report.Cell(b.Row(0)[i]))
		}
	}
	return out
}

// aboutColumn says what a column holds.
func aboutColumn(c *schema.Column) string {
	about := c.Declared
	if c.Values != nil {
		about = "one of " + strings.Join(c.Values, ", ")
	}
	if !c.NotNull {
		about += ", may be NULL"
	}
	return safe.OneLine(about)
}

// matching are the labels that hold a text, those that begin with it first.
func matching(labels []string, typed string) []string {
	typed = strings.ToLower(strings.TrimSpace(typed))
	var first, others []string
	for _, l := range labels {
		switch at := strings.Index(strings.ToLower(l), typed); {
		case at == 0:
			first = append(first, safe.OneLine(l))
		case at > 0:
			others = append(others, safe.OneLine(l))
		}
	}
	return append(first, others...)
}
