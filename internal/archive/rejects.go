package archive

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/order"
	"evensprout/internal/plan"
	"evensprout/internal/value"
)

// maxRejectLine bounds a line of a rejects file, in bytes.
const maxRejectLine = 16 << 20

// maxRejectProblems bounds how many faults of a rejects file are told.
const maxRejectProblems = 100

// rejectLine is a line of a rejects file, as far as it is read again.
type rejectLine struct {
	Entity string                     `json:"entity"`
	Fields map[string]json.RawMessage `json:"fields"`
}

// FromRejects makes a plan of the rows of a rejects file (NDJSON), which was written by
// a load and corrected by hand: the rows go into the same tables in the same way, and
// nothing else is grown. The error is diag.Problems.
func FromRejects(c *plan.Compiled, file string, r io.Reader) (*plan.Compiled, error) {
	out := &plan.Compiled{
		Plan:      c.Plan,
		Database:  c.Database,
		Inputs:    c.Inputs,
		Corrected: file,
		Set:       &grow.Set{Seed: c.Set.Seed, Edition: c.Set.Edition, Clock: c.Set.Clock},
	}
	tables := map[string]*rejectedRows{}
	o := order.Of(c)
	for _, t := range o.Targets() {
		rows := &rejectedRows{file: file}
		e := out.Set.NewEntity(t.Plan.Name)
		e.Table = rows
		to := &plan.Target{Plan: t.Plan, Grow: e, Table: t.Table, Write: t.Write}
		for i, f := range t.Grow.Fields {
			if f.Inner || t.Columns[i] == nil {
				continue
			}
			g := out.Set.NewField(e, f.Name, f.Name)
			g.Source = grow.Stored(len(rows.fields), f.Source.Type(), f.Source.Scale())
			g.Hidden = f.Hidden
			rows.fields = append(rows.fields, f)
			to.Columns = append(to.Columns, t.Columns[i])
			if f == t.Grow.Key {
				e.Key = g
			}
		}
		tables[t.Plan.Name] = rows
		out.Targets = append(out.Targets, to)
	}

	problems := readRejects(file, r, tables)
	if len(problems) > 0 {
		return nil, problems
	}
	if faults := out.Set.Finish(); len(faults) > 0 {
		return nil, faults[0]
	}
	return out, nil
}

// readRejects reads corrected rows, by entity; all problems at once.
func readRejects(file string, r io.Reader, tables map[string]*rejectedRows) diag.Problems {
	var problems diag.Problems
	add := func(line int, hint, format string, args ...any) {
		if len(problems) < maxRejectProblems {
			problems = append(
				problems,
				&diag.Problem{File: file, Line: line, Column: 1, Message: fmt.Sprintf(format, args...), Hint: hint},
			)
		}
	}
	var names []string
	for name := range tables {
		names = append(names, name)
	}
	slices.Sort(names)
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 64<<10), maxRejectLine)
	line := 0
	for s.Scan() {
		line++
		if len(bytes.TrimSpace(s.Bytes())) == 0 {
			continue
		}
		var x rejectLine
		d := json.NewDecoder(bytes.NewReader(s.Bytes()))
		if err := d.Decode(&x); err != nil || d.More() {
			add(line, "each line is one JSON object, as a load wrote it", "this line does not come from a "+
				"rejects file")
			continue
		}
		rows := tables[x.Entity]
		if rows == nil {
			hint := "known: " + strings.Join(names, ", ")
			if near := diag.Nearest(x.Entity, names); near != "" {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			add(line, hint, "the plan has no entity %q", x.Entity)
			continue
		}
		values := make([]value.Value, len(rows.fields))
		for name, raw := range x.Fields {
			i := slices.IndexFunc(rows.fields, func(f *grow.Field) bool { return f.Name == name })
			if i < 0 {
				add(line, "", "%s has no field %q", x.Entity, name)
				continue
			}
			v, err := readJSON(raw, rows.fields[i].Source)
			if err != nil {
				add(line, "", "%s.%s: %s", x.Entity, name, err)
			}
			values[i] = v
		}
		rows.rows, rows.lines = append(rows.rows, values), append(rows.lines, line)
	}
	if err := s.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			err = fmt.Errorf("a line has more than %d bytes", maxRejectLine)
		}
		add(line+1, "", "%s", err)
	}
	return problems
}

// readJSON reads a value as a load wrote it.
func readJSON(raw json.RawMessage, src grow.Source) (value.Value, error) {
	if string(raw) == "null" {
		return value.Value{}, nil
	}
	if src.Type() == value.JSON {
		var b bytes.Buffer
		err := json.Compact(&b, raw)
		return value.Value{Type: value.JSON, S: b.String()}, err
	}
	text := string(raw)
	if strings.HasPrefix(text, `"`) {
		if err := json.Unmarshal(raw, &text); err != nil {
			return value.Value{}, err
		}
	}
	switch src.Type() {
	case value.Integer, value.Decimal:
		return readNumber(text, src)
	case value.Boolean:
		if text != "true" && text != "false" {
			return value.Value{}, fmt.Errorf("%q is neither true nor false", text)
		}
		return value.Bool(text == "true"), nil
	case value.Date:
		return value.ParseDate(text)
	case value.Time:
		return value.ParseTime(text)
	case value.Timestamp:
		return value.ParseTimestamp(text)
	case value.UUID:
		return value.ParseUUID(text)
	case value.Bytes:
		b, err := base64.StdEncoding.DecodeString(text)
		return value.Value{Type: value.Bytes, S: string(b)}, err
	}

	if raw[0] != '"' {
		return value.Value{}, fmt.Errorf("%s is not text: put it in quotes", text)
	}
	return value.String(text), nil
}

// readNumber reads a number of the type and the scale of a source.
func readNumber(text string, src grow.Source) (value.Value, error) {
	v, err := value.ParseDecimal(text)
	if err != nil {
		return v, err
	}
	if src.Type() == value.Integer {
		if v.Type != value.Integer {
			return v, fmt.Errorf("%q is not a whole number", text)
		}
		return v, nil
	}
	r, ok := v.Rescale(src.Scale())
	if !ok {
		return v, fmt.Errorf("%q has more than %d decimal places", text, src.Scale())
	}
	return r, nil
}

// rejectedRows is the rows of one entity in a rejects file. It is its own reader.
type rejectedRows struct {
	file   string
	fields []*grow.Field // of the plan
	rows   [][]value.Value
	lines  []int
}

func (r *rejectedRows) Len() uint64                         { return uint64(len(r.rows)) }
func (r *rejectedRows) Reader() grow.TableReader            { return r }
func (r *rejectedRows) Row(n uint64) ([]value.Value, error) { return r.rows[n], nil }
func (r *rejectedRows) Close() error                        { return nil }

// Place is where a row stands.
func (r *rejectedRows) Place(n uint64) (string, int) { return r.file, r.lines[n] }
