package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"evensprout/internal/diag"
	"evensprout/internal/diagram"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// diagramFlags say what is shown, and how.
type diagramFlags struct {
	out, format, fields string
	only                []string
	around              string
}

// The formats of diagrams. A tree is for terminals.
const (
	formatTree    = "tree"
	formatSVG     = "svg"
	formatPNG     = "png"
	formatMermaid = "mermaid"
)

// maxBoxes bounds a diagram: more cannot be read, and cannot be laid out in a moment.
const maxBoxes = 1000

func (a *program) diagram() *cobra.Command {
	var flags diagramFlags
	c := &cobra.Command{
		Use:   "diagram [PLAN]",
		Short: "Draw entities or tables, and what they refer to",
		Long: `diagram shows the entities of a plan with their fields, keys, references, numbers of rows
and the load order: as a tree on the terminal, as a picture (SVG, PNG), or as Mermaid
text for a README. It opens no database, unless --db names one: then what only the plan
or only the database has is marked. With --db and without a plan, it shows the tables.

In a picture, an entity stands to the right of those that it refers to, and so of those
that are loaded before it. Entities that are planned per row of another one have a
common colour. A dashed line closes a circle: it is written at the end of a load.

--only shows some entities, and --around Booking:2 shows one with all that is at most
two references away. Of more than 12 entities, only keys and references are shown;
--fields all shows the others, too.`,
		Example: `  evensprout diagram
  evensprout diagram --out larkwater.svg
  evensprout diagram --around Booking:1 --out booking.png
  evensprout diagram --format mermaid >> README.md
  evensprout diagram --db sqlite:app.db --out tables.svg
  evensprout diagram evensprout.yaml --db sqlite:app.db   # what differs`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.drawDiagram(cmd.Context(), args, flags)
		},
	}
	c.Flags().StringVar(&flags.out, "out", "", "write to this `FILE`: .svg, .png or .mmd (Mermaid)")
	a.overwriteFlag(c)
	c.Flags().
		StringVar(&flags.format, "format", "", "tree, svg, png or mermaid (default: by the name of --out, or tree)")
	c.Flags().StringSliceVar(&flags.only, "only", nil, "show only these entities or tables, as in Booking,Ticket")
	c.Flags().
		StringVar(&flags.around, "around", "", "show what is near `ENTITY[:N]`: at most N references away (default 1)")
	c.Flags().StringVar(&flags.fields, "fields", "", "all or keys (default: all, of more than 12 entities keys)")
	return c
}

// check finds the format, and refuses flags that make no sense.
func (f *diagramFlags) check() error {
	if f.format == "" {
		f.format = formatTree
		if f.out != "" {
			f.format = map[string]string{".svg": formatSVG, ".png": formatPNG, ".mmd": formatMermaid,
				".txt": formatTree}[strings.ToLower(filepath.Ext(f.out))]
			if f.format == "" {
				return diag.Usagef("--out must end in .svg, .png, .mmd or .txt, or --format must say what to write")
			}
		}
	}
	if !slices.Contains([]string{formatTree, formatSVG, formatPNG, formatMermaid}, f.format) {
		return diag.Usagef("--format must be tree, svg, png or mermaid, got %s", f.format)
	}
	if f.format == formatPNG && f.out == "" {
		return diag.Usagef("a PNG picture needs a file: add --out diagram.png")
	}
	if f.fields != "" && f.fields != "all" && f.fields != "keys" {
		return diag.Usagef("--fields must be all or keys, got %s", f.fields)
	}
	if f.around != "" && len(f.only) > 0 {
		return diag.Usagef("--only and --around cannot be combined")
	}
	return nil
}

// drawDiagram draws a plan, a database, or both.
func (a *program) drawDiagram(ctx context.Context, args []string, f diagramFlags) error {
	if err := f.check(); err != nil {
		return err
	}
	d, err := a.diagramOf(ctx, args)
	if err != nil {
		return err
	}
	if d, err = f.choose(d); err != nil {
		return err
	}
	if len(d.Boxes) > maxBoxes {
		return diag.Usagef("a diagram shows at most %s entities, and there are %s: choose some with --only or --around",
			diag.Number(maxBoxes), diag.Number(int64(len(d.Boxes))))
	}
	if a.json {
		return a.writeJSON(d)
	}
	if f.format == formatTree && f.out == "" {
		fmt.Fprintln(a.out, a.page.Draw(d.Tree()))
		for _, note := range d.Notes {
			fmt.Fprintln(a.out, a.page.Dim(note))
		}
		return nil
	}
	text, err := f.draw(d)
	if err != nil {
		return err
	}
	if f.out == "" {
		_, err = a.exact.Write(text)
		return err
	}
	if err := a.output(f.out, nil, args...).Write(text); err != nil {
		return a.inTheWay(err)
	}
	shown := diag.Count(int64(len(d.Boxes)), "entity", "entities")
	if d.OfTables {
		shown = diag.Count(int64(len(d.Boxes)), "table", "tables")
	}
	a.say("%s shows %s", f.out, shown)
	return nil
}

// draw is the picture or the text of a diagram.
func (f *diagramFlags) draw(d *diagram.Diagram) ([]byte, error) {
	switch f.format {
	case formatMermaid:
		return []byte(d.Mermaid()), nil
	case formatTree:
		return []byte(report.Page{Width: fileWidth}.Draw(d.Tree())), nil
	}
	layout, err := diagram.NewLayout(d)
	if err != nil {
		return nil, err
	}
	return layout.Draw(f.format)
}

// fileWidth is the width of a tree in a file, in characters.
const fileWidth = 120

// choose keeps the entities and the fields that are asked for.
func (f *diagramFlags) choose(d *diagram.Diagram) (*diagram.Diagram, error) {
	find := func(flag, name string) (int, error) {
		i := d.Find(name)
		if i < 0 {
			err := fmt.Errorf("%s: there is no entity or table %s", flag, name)
			if near := diag.Nearest(name, d.Names()); near != "" {
				err = fmt.Errorf("%w; did you mean %s?", err, near)
			}
			return 0, &diag.UsageError{Err: err}
		}
		return i, nil
	}
	switch {
	case len(f.only) > 0:
		kept := map[int]bool{}
		for _, name := range f.only {
			i, err := find("--only", name)
			if err != nil {
				return nil, err
			}
			kept[i] = true
		}
		d = d.Only(func(i int) bool { return kept[i] })
	case f.around != "":
		name, number, counted := strings.Cut(f.around, ":")
		steps := 1
		if counted {
			n, err := strconv.Atoi(number)
			if err != nil || n < 0 {
				return nil, diag.Usagef("--around must be an entity and how many references away, such as %s:2, got %q",
					name, f.around)
			}
			steps = n
		}
		i, err := find("--around", name)
		if err != nil {
			return nil, err
		}
		d = d.Around(i, steps)
	}
	const few = 12
	if f.fields == "keys" || f.fields == "" && len(d.Boxes) > few {
		d = d.KeysOnly()
	}
	return d, nil
}

// diagramOf is the diagram of a plan, of the tables if there is none, or of both.
func (a *program) diagramOf(ctx context.Context, args []string) (*diagram.Diagram, error) {
	p, err := a.ws.ReadPlan(args)
	var problems diag.Problems
	if err != nil && (len(args) > 0 || a.ws.DB == "" || !errors.As(err, &problems)) {
		return nil, err
	}
	if err != nil { // there is no plan in this folder
		return a.tablesDiagram(ctx)
	}
	o, err := a.ws.Options()
	if err != nil {
		return nil, err
	}
	c, err := p.Compile(o)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if a.ws.DB == "" {
		return diagram.OfPlan(c), nil
	}
	s, db, _, err := a.openTables(ctx, p, args)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return diagram.Beside(c, p.Bindings(db), db), nil
}

// openTables opens a database and reads its tables. Close the store if there is no error.
func (a *program) openTables(ctx context.Context, p *plan.Plan, args []string) (
	store.Store, *schema.Database, string, error,
) {
	s, name, err := a.ws.Open(ctx, p, args)
	if err != nil {
		return nil, nil, "", err
	}
	db, err := s.Survey(ctx)
	if err != nil {
		return nil, nil, "", errors.Join(err, s.Close())
	}
	return s, db, name, nil
}

// tablesDiagram is the diagram of the tables of a database.
func (a *program) tablesDiagram(ctx context.Context) (*diagram.Diagram, error) {
	s, db, name, err := a.openTables(ctx, nil, nil)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	rows := map[string]string{}
	for _, t := range db.Tables {
		n, why, err := store.CountReached(ctx, s, t)
		if err != nil {
			return nil, err
		}
		if rows[t.Name] = diag.Number(n); why != nil {
			rows[t.Name] = notReached
		}
	}
	return diagram.OfDatabase(db, name, rows), nil
}
