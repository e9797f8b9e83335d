package cli

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"unicode"

	"evensprout/internal/grow"
	"evensprout/internal/load"
	"evensprout/internal/report"
	"evensprout/internal/safe"
)

// outputs are the files that a load writes beside the tables, made when the first line
// comes.
type outputs struct {
	rejects, changes string // as the flags name them
	name             string // of the plan

	rejected *os.File
	changed  *os.File
	csv      *csv.Writer
}

// into lets a load write into the files.
func (o *outputs) into(to *load.Options) {
	to.Rejected = o.reject
	if o.changes != "" {
		to.Changed = o.change
	}
}

// plainFile is a name as one of a file in the current folder.
func plainFile(name string) string {
	name = strings.Map(func(r rune) rune {
		if r == '.' || r == '-' || r == '_' || unicode.IsLetter(r) || unicode.IsDigit(r) {
			return r
		}
		return '-'
	}, name)
	if name = strings.TrimLeft(name, "."); name == "" {
		return "plan"
	}
	return name
}

// create makes a file that is not there yet; without a name, one that is free.
func create(path, plain string) (*os.File, error) {
	name := path
	plain = plainFile(plain) // it comes from the plan, which may call itself anything
	if path == "" {
		name = plain + ".ndjson"
	}
	for n := 2; ; n++ {
		f, err := safe.Create(name, 0o644)
		if !errors.Is(err, fs.ErrExist) {
			return f, err
		}
		if path != "" {
			return nil, fmt.Errorf("%s is there already: name another file, or move it away", path)
		}
		name = fmt.Sprintf("%s-%d.ndjson", plain, n)
	}
}

// reject writes a row that was left out: its fields, as a line that can be corrected
// and loaded again, and why.
func (o *outputs) reject(x load.Rejection) error {
	if o.rejected == nil {
		var err error
		if o.rejected, err = create(o.rejects, o.name+".rejects"); err != nil {
			return err
		}
	}
	fields := &report.Object{}
	for i, name := range x.Fields {
		fields.Set(name, report.JSON(x.Values[i]))
	}
	line := &report.Object{}
	line.Set("entity", x.Refusal.Entity)
	line.Set("row", x.Refusal.Row)
	line.Set("fields", fields)
	line.Set("violation", x.Refusal)
	b, err := json.Marshal(line)
	if err != nil {
		return err
	}
	_, err = o.rejected.Write(append(b, '\n'))
	return err
}

func (o *outputs) rejectsPath() string {
	if o.rejected == nil {
		return ""
	}
	return o.rejected.Name()
}

// change writes a changed cell: the row's match values in one column, because entities
// differ in how many they have.
func (o *outputs) change(c load.Changed) error {
	if o.csv == nil {
		var err error
		if o.changed, err = create(o.changes, ""); err != nil {
			return err
		}
		o.csv = csv.NewWriter(o.changed)
		if err := o.csv.Write([]string{"entity", "row", "line", "key", "field", "from", "to"}); err != nil {
			return err
		}
	}
	key := ""
	for i, v := range c.Match {
		if i > 0 {
			key += ", "
		}
		key += v.String()
	}
	line := ""
	if c.Line > 0 {
		line = strconv.Itoa(c.Line)
	}
	text := func(v grow.Value) string {
		if v.IsNull() {
			return ""
		}
		return v.String()
	}
	return o.csv.Write([]string{c.Entity, c.Row, line, key, c.Field, text(c.From), text(c.To)})
}

func (o *outputs) close() error {
	var err error
	if o.csv != nil {
		o.csv.Flush()
		err = errors.Join(o.csv.Error(), o.changed.Close())
	}
	if o.rejected != nil {
		err = errors.Join(err, o.rejected.Close())
	}
	return err
}
