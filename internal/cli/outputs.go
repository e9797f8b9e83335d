package cli

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"evensprout/internal/app"
	"evensprout/internal/diag"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// outputs are the files that a load writes beside the tables. They are made before the
// first write to the database, so that nothing that is left out or changed is lost, and
// those into which nothing came are removed again.
type outputs struct {
	rejected, changed *outputFile // nil if there is none
	csv               *csv.Writer // of changed
}

// outputFile is a file of results. An error while it is written does not stop the load,
// whose rows may be committed already: it is reported at the end.
type outputFile struct {
	*os.File
	lines int64
	err   error
}

// openOutputs makes the files that the flags name, and one for rows that are left out if
// the plan may leave some out.
func openOutputs(c *plan.Compiled, o load.Options, write *writeFlags) (*outputs, error) {
	out := &outputs{}
	var err error
	if write.changes != "" {
		if out.changed, err = createOutput(write.changes, ""); err != nil {
			return nil, err
		}
		out.csv = csv.NewWriter(out.changed)
		out.note(out.changed, out.csv.Write([]string{"entity", "row", "line", "key", "field", "from", "to"}))
	}
	if write.rejects != "" || mayLeaveOut(c, o) && !o.DryRun {
		if out.rejected, err = createOutput(write.rejects, c.Plan.Name+".rejects"); err != nil {
			return nil, errors.Join(err, out.close(false))
		}
	}
	return out, nil
}

// mayLeaveOut reports whether some violation does not stop the load.
func mayLeaveOut(c *plan.Compiled, o load.Options) bool {
	all := []plan.Policies{o.Policies, c.Plan.OnViolation}
	for _, t := range c.Targets {
		if t.Write.Mode == plan.Update { // a row that is not found
			return true
		}
		all = append(all, t.Plan.OnViolation)
	}
	for _, u := range c.Units {
		all = append(all, u.Plan.OnViolation)
	}
	for _, p := range all {
		for _, policy := range p {
			if policy != plan.Stop {
				return true
			}
		}
	}
	return false
}

// into lets a load write into the files.
func (o *outputs) into(to *load.Options) {
	if o.rejected != nil {
		to.Rejected = o.reject
	}
	if o.changed != nil {
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

// createOutput makes a file that is not there yet; without a name, one that is free.
func createOutput(path, plain string) (*outputFile, error) {
	name := path
	plain = plainFile(plain) // it comes from the plan, which may call itself anything
	if path == "" {
		name = plain + ".ndjson"
	}
	for n := 2; ; n++ {
		f, err := safe.Create(name, 0o644)
		switch {
		case err == nil:
			return &outputFile{File: f}, nil
		case path == "" && errors.Is(err, fs.ErrExist):
			name = fmt.Sprintf("%s-%d.ndjson", plain, n)
		case path == "":
			return nil, fmt.Errorf(
				"the file for rows that are left out cannot be created, and nothing was written: %w; choose "+
					"another with --rejects",
				unmade(name, err),
			)
		case errors.Is(err, fs.ErrExist):
			return nil, fmt.Errorf(
				"%s already exists, and nothing was written: name another file, or move it away",
				path,
			)
		default:
			return nil, fmt.Errorf("%s cannot be created, and nothing was written: %w", path, unmade(path, err))
		}
	}
}

// note keeps the first error of a file.
func (o *outputs) note(f *outputFile, err error) {
	if f.err == nil {
		f.err = err
	}
}

// reject writes a row that was left out: its fields, as a line that can be corrected
// and loaded again, and why.
func (o *outputs) reject(x load.Rejection) error {
	b, err := rejectLine(&x)
	if err == nil {
		_, err = o.rejected.Write(b)
	}
	o.rejected.lines++
	o.note(o.rejected, err)
	return nil
}

// rejectLine is a row that was left out as a line of a rejects file.
func rejectLine(x *load.Rejection) ([]byte, error) {
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
	return append(b, '\n'), err
}

func (o *outputs) rejectsPath() string {
	if o.rejected == nil || o.rejected.lines == 0 {
		return ""
	}
	return o.rejected.Name()
}

// change writes a changed cell: the row's match values in one column, because entities
// differ in how many they have.
func (o *outputs) change(c load.Changed) error {
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
	text := func(v value.Value) string {
		if v.IsNull() {
			return ""
		}
		return v.String()
	}
	o.changed.lines++
	o.note(o.changed, o.csv.Write([]string{c.Entity, c.Row, line, key, c.Field, text(c.From), text(c.To)}))
	return nil
}

// close ends the files. Those into which nothing came are removed, but for the changes of
// a load that is done: none is an answer.
func (o *outputs) close(done bool) error {
	if o.csv != nil {
		o.csv.Flush()
		o.note(o.changed, o.csv.Error())
	}
	var all error
	for _, f := range []*outputFile{o.changed, o.rejected} {
		if f == nil {
			continue
		}
		o.note(f, f.Close())
		switch {
		case f.lines == 0 && (f == o.rejected || !done):
			all = errors.Join(all, os.Remove(f.Name()))
		case f.err != nil:
			all = errors.Join(
				all,
				fmt.Errorf("%s is incomplete: %w; the load itself is not rolled back", f.Name(), f.err),
			)
		}
	}
	return all
}

// unmade says why a file cannot be made, without the words of a system call.
func unmade(path string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("there is no folder %s", filepath.Dir(path))
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("this user may not write into %s", filepath.Dir(path))
	}
	return err
}

// unreadable says why a file cannot be read, without the words of a system call.
func unreadable(path string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("there is no file %s", path)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("this user may not read %s", path)
	}
	return err
}

// output is a file that a command makes for people to look at. The plan, the files that it reads, other named files and
// the database are not written over.
func (a *program) output(path string, p *plan.Plan, others ...string) safe.Output {
	o := safe.Output{Path: path, Overwrite: a.overwrite, Inputs: append(slices.Clone(others), app.DefaultPlan)}
	if p != nil {
		o.Inputs = append(append(o.Inputs, p.File()), p.Files()...)
	}
	for _, url := range []string{a.ws.Opened, a.ws.DB} {
		if url != "" {
			o.Inputs = append(o.Inputs, store.Describe(a.ws.Drivers, url).File)
		}
	}
	return o
}

// inTheWay says what to do where an output is not written over what is there.
func (a *program) inTheWay(err error) error {
	var is *safe.InTheWayError
	var other *safe.NotRegular
	switch {
	case errors.As(err, &is) && is.Asks && !a.overwrites:
		return diag.Usagef("%w; name another file, or remove this one", err)
	case errors.As(err, &is) && is.Asks:
		return diag.Usagef("%w; name another file, or add --overwrite", err)
	case errors.As(err, &is), errors.As(err, &other):
		return diag.Usagef("%w; name another file", err)
	}
	return err
}

// overwriteFlag lets a command replace files that it did not make.
func (a *program) overwriteFlag(c *cobra.Command) {
	c.Flags().BoolVar(&a.overwrite, "overwrite", false, "replace a file that this program did not make")
	c.PreRun = func(*cobra.Command, []string) { a.overwrites = true }
}
