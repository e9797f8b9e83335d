// Package export writes the rows of a plan into files: one for each entity, one stream,
// or a script of SQL. No more rows are held than are on their way.
package export

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"iter"
	"slices"
	"strings"

	"evensprout/internal/cell"
	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Names says what the columns of files are called.
type Names string

// The ways to name columns.
const (
	Fields  Names = "fields"  // as in the plan, and so in the code
	Columns Names = "columns" // as in the database
)

// Options say what is written, and how.
type Options struct {
	Format   string // of files.Formats
	Names    Names
	Entities []string // empty: all of them
	Part     order.Part
	Jobs     int
	MadeBy   string // the program and its version
	// References say how nested rows name the rows that they refer to.
	References References
	// Guard lets CSV hold no text that a spreadsheet takes for a formula.
	Guard bool
	// Bare lets scripts be run by a program that begins and commits a transaction itself, and leaves the session as it
	// was. Local leaves schemas out of the names of tables.
	Bare, Local bool
	// Alone leaves out the rows of plans that this one builds on, if no entities are named.
	Alone bool
}

// writer is the form that files are written in; guarded CSV is one of its own.
func (o Options) writer() string {
	if o.Guard {
		return files.Guarded
	}
	return o.Format
}

// exporter is one export.
type exporter struct {
	plan     *plan.Compiled
	o        Options
	grower   *grow.Grower
	targets  []*plan.Target // in load order
	manifest *files.Manifest
	failed   error // of growing
}

// newExporter takes the entities that are wanted.
func newExporter(c *plan.Compiled, o Options) *exporter {
	x := &exporter{plan: c, o: o, grower: grow.NewGrower(c.Set), manifest: files.NewManifest()}
	of := order.Of(c)
	for _, t := range c.Targets { // what others refer to comes first
		if c.Elsewhere(t) && len(o.Entities) == 0 && !o.Alone && o.Part.Whole() {
			x.targets = append(x.targets, t)
		}
	}
	for _, t := range of.Targets() {
		if len(o.Entities) == 0 || slices.Contains(o.Entities, t.Plan.Name) {
			x.targets = append(x.targets, t)
		}
	}
	for _, t := range c.Targets { // rows that are there are nobody's to load, but may be asked for
		if t.Plan.Existing && slices.Contains(o.Entities, t.Plan.Name) && !slices.Contains(x.targets, t) {
			x.targets = append(x.targets, t)
		}
	}
	m := x.manifest
	m.Plan, m.Edition, m.Seed, m.MadeBy, m.Kind, m.Names = c.Plan.Name, c.Set.Edition, c.Set.Seed, o.MadeBy, o.Format,
		string(
			o.Names,
		)
	if !c.Set.Clock.IsNull() {
		m.Clock = c.Set.Clock.String()
	}
	if !o.Part.Whole() {
		m.Part = &o.Part
	}
	return x
}

// close closes the grower and the files it reads.
func (x *exporter) close() { x.grower.Close() }

// column is a field that is written.
type column struct {
	field int // of the entity
	files.ManifestColumn
	typ    value.Type
	of     *schema.Column // nil without a database
	target *grow.Entity   // nil if it is no reference
}

// columnsOf are the fields of an entity that are written.
func (x *exporter) columnsOf(t *plan.Target) []column {
	var out []column
	for i, f := range t.Grow.Fields {
		var col *schema.Column
		if t.Table != nil {
			col = t.Columns[i]
		}
		if f.Inner || x.o.Names == Columns && (col == nil || col.Generated) {
			continue
		}
		c := column{field: i, of: col, typ: f.Source.Type(), target: f.Target()}
		if c.typ == value.Null {
			c.typ = value.Text // nothing but NULLs
		}
		c.Name, c.Field, c.Type, c.Scale, c.Hidden = f.Name, f.Name, c.typ.String(), f.Source.Scale(), f.Hidden
		if c.typ != value.Decimal {
			c.Scale = 0
		}
		if col != nil {
			c.Column = col.Name
			if x.o.Names == Columns {
				c.Name = col.Name
			}
		}
		if c.target != nil {
			c.Refers = c.target.Name + "." + f.Stored().Name
		}
		if f == t.Grow.Key && f.Hidden {
			out = slices.Insert(out, 0, c) // as tables have it
			continue
		}
		out = append(out, c)
	}
	return out
}

// describe begins what the manifest says of an entity.
func (x *exporter) describe(t *plan.Target, columns []column) (*files.ManifestRows, error) {
	m := files.ManifestRows{Entity: t.Plan.Name}
	if t.Table != nil {
		m.Table = t.Table.Name
	} else {
		m.Table = t.Plan.Table
	}
	for _, c := range columns {
		m.Columns = append(m.Columns, c.ManifestColumn)
	}
	for _, run := range order.Runs(x.grower, t, x.o.Part) {
		m.Rows += run.Rows
		if !run.First.Side && t.Grow.Table == nil {
			m.First = run.First.N
			continue
		}
		// Rows of files are known by what stands there: each by itself.
		if run.Rows > maxNamed {
			continue
		}
		for n := range run.Rows {
			m.Given = append(
				m.Given,
				files.RowID(x.grower.ID(t.Grow, grow.Row{N: run.First.N + n, Side: run.First.Side})),
			)
		}
	}

	x.manifest.Entities = append(x.manifest.Entities, m)
	return &x.manifest.Entities[len(x.manifest.Entities)-1], x.grower.Err()
}

// maxNamed bounds the rows of an entity whose identities stand in a manifest one by one.
const maxNamed = 1_000_000

// each grows the rows of the targets, in order: begin is told the entity, then row every
// row of it, then end.
func (x *exporter) each(
	ctx context.Context,
	begin func(*plan.Target) error,
	row func(grow.Row, []value.Value) error,
	end func(grow.Fingerprint) error,
) error {
	chunks := func(yield func(order.Chunk) bool) {
		g := grow.NewGrower(x.plan.Set)
		defer g.Close()
		for _, t := range x.targets {
			if !yield(order.Chunk(order.Runs(g, t, x.o.Part))) {
				return
			}
		}
	}
	p := order.NewPipe(ctx, x.plan.Set, max(1, x.o.Jobs), iter.Seq[order.Chunk](chunks))
	defer p.End()
	fail := func(err error) { x.failed = err }
	at := 0
	for chunk := range p.Chunks() {
		if err := begin(x.targets[at]); err != nil {
			return err
		}
		var print grow.Fingerprint
		for _, run := range chunk {
			for b := range p.Rows(ctx, run, fail) {
				print.Add(b.Print)
				for i := range b.Len {
					if err := row(b.At(i), b.Row(i)); err != nil {
						return err
					}
				}
			}
			if x.failed != nil {
				return x.failed
			}
		}
		if err := end(print); err != nil {
			return err
		}
		at++
	}
	return context.Cause(ctx)
}

// measured counts and digests what is written.
type measured struct {
	io.Writer
	bytes  int64
	digest hash.Hash
}

// measure counts and digests what is written to w.
func measure(w io.Writer) *measured {
	h := sha256.New()
	return &measured{Writer: io.MultiWriter(w, h), digest: h}
}

func (m *measured) Write(b []byte) (int, error) {
	n, err := m.Writer.Write(b)
	m.bytes += int64(n)
	return n, err
}

// record notes length and digest in the manifest.
func (m *measured) record(of *files.ManifestRows) {
	of.Bytes, of.SHA256 = m.bytes, hex.EncodeToString(m.digest.Sum(nil))
}

// write writes all rows in the format. open says where those of an entity go, and done is
// told that they are there.
func (x *exporter) write(
	ctx context.Context,
	open func(t *plan.Target, about *files.ManifestRows) (io.Writer, error),
	done func(about *files.ManifestRows) error,
) error {
	var (
		w       files.Writer
		about   *files.ManifestRows
		columns []column
		line    []value.Value
	)
	begin := func(t *plan.Target) (err error) {
		columns = x.columnsOf(t)
		if about, err = x.describe(t, columns); err != nil {
			return err
		}
		line = make([]value.Value, len(columns))
		into, err := open(t, about)
		if err != nil {
			return err
		}
		w, err = files.NewWriter(x.o.writer(), into, fileColumns(columns))
		return err
	}
	row := func(_ grow.Row, values []value.Value) error {
		for i, c := range columns {
			line[i] = values[c.field]
		}
		return w.Write(line)
	}
	end := func(print grow.Fingerprint) error {
		about.Fingerprint = print
		if err := w.Close(); err != nil {
			return err
		}
		return done(about)
	}
	return x.each(ctx, begin, row, end)
}

// Files writes a file for each entity, called after it. create makes a file.
func Files(
	ctx context.Context,
	c *plan.Compiled,
	o Options,
	create func(name string) (io.WriteCloser, error),
) (*files.Manifest, error) {
	x := newExporter(c, o)
	defer x.close()
	var file io.WriteCloser
	var counted *measured
	defer func() {
		if file != nil {
			file.Close()
		}
	}()
	open := func(t *plan.Target, about *files.ManifestRows) (_ io.Writer, err error) {
		about.File = x.fileName(t.Plan.Name, o.Format)
		if file, err = create(about.File); err != nil {
			return nil, err
		}
		counted = measure(file)
		return counted, nil
	}
	done := func(about *files.ManifestRows) error {
		counted.record(about)
		err := file.Close()
		file = nil
		return err
	}
	return x.manifest, x.write(ctx, open, done)
}

// fileColumns are the columns of a file.
func fileColumns(columns []column) []files.Column {
	var out []files.Column
	for _, c := range columns {
		out = append(out, files.Column{Name: c.Name, Type: c.typ, Scale: c.Scale})
	}
	return out
}

// fileName makes the name of a file of an entity's, which is letters, digits and underscores.
// Where letter case does not tell files apart, a number does.
func (x *exporter) fileName(entity, ending string) string {
	name := entity + "." + ending
	for n := 2; slices.ContainsFunc(x.manifest.Entities,
		func(m files.ManifestRows) bool { return strings.EqualFold(m.File, name) }); n++ {
		name = fmt.Sprintf("%s-%d.%s", entity, n, ending)
	}
	return name
}

// Stream writes all rows as one text: of one entity as its file would be; of several as
// JSON with their names, {"Passenger": [...], ...}, or NDJSON, {"Passenger": {...}} in each
// line.
func Stream(ctx context.Context, c *plan.Compiled, o Options, out io.Writer) (*files.Manifest, error) {
	x := newExporter(c, o)
	defer x.close()
	several := len(x.targets) != 1
	if several && o.Format != "json" && o.Format != "ndjson" {
		return nil, fmt.Errorf("a stream of %s holds one entity", o.Format)
	}
	between := "{"
	open := func(t *plan.Target, _ *files.ManifestRows) (io.Writer, error) {
		key := string(cell.AppendJSONText(nil, t.Plan.Name)) + ":"
		switch {
		case several && o.Format == "json":
			_, err := io.WriteString(out, between+key)
			between = ","
			return out, err
		case several:
			return &wrapped{out: out, before: "{" + key, after: "}\n"}, nil
		}
		return out, nil
	}
	if err := x.write(ctx, open, func(*files.ManifestRows) error { return nil }); err != nil {
		return nil, err
	}
	if several && o.Format == "json" {
		if _, err := io.WriteString(out, "}\n"); err != nil {
			return nil, err
		}
	}
	return x.manifest, nil
}

// wrapped puts every line between two texts.
type wrapped struct {
	out           io.Writer
	before, after string
	open          bool
	buf           []byte
}

func (w *wrapped) Write(b []byte) (int, error) {
	w.buf = w.buf[:0]
	for _, c := range b {
		if !w.open {
			w.buf, w.open = append(w.buf, w.before...), true
		}
		if c == '\n' {
			w.buf, w.open = append(w.buf, w.after...), false
			continue
		}
		w.buf = append(w.buf, c)
	}
	_, err := w.out.Write(w.buf)
	return len(b), err
}
