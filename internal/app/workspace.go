// Package app opens what commands work on: a plan, its database and standard input, and
// guards databases that must not be written to.
package app

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"evensprout/internal/archive"
	"evensprout/internal/diag"
	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/preflight"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// DefaultPlan is the plan where none is named.
const DefaultPlan = "evensprout.yaml"

// readyPoll is how often a server or a table that is not there yet is looked for.
const readyPoll = 250 * time.Millisecond

// Workspace is what a command works on: a plan, its database, standard input, and what the
// command line says of them.
type Workspace struct {
	In      io.Reader
	Say     func(format string, args ...any) // tells a person something
	Drivers []store.Driver
	DB      string
	Clock   string
	Awkward string   // the share of awkward values that the command line adds; empty: none
	Allowed []string // hosts that may be written to
	// Logins reports whether users with known passwords may be written to another machine, too.
	Logins bool
	Writes bool   // the command writes into the database
	Opened string // the URL of the database
	// opens a database of a run's own, in place of the URL; nil: there is none
	Opener func(context.Context) (store.Store, error)
	// the further set of rows that is meant; empty for the plan's own
	Extra     string
	PlanAlone bool // no database is opened, even if one is named

	Sample        uint64   // rows of each entity that are held against the database
	Lasting       []string // tables of the plan whose engine has no transactions
	WithUnits     bool     // the command is about units, too
	Unit          string   // whose occasions come from occasionsFile, or from standard input
	OccasionsFile string
	Use           plan.Use
	Inline        []byte // a plan that the command line stands for; nil if there is none
	spooled       string // the file that standard input was copied into; empty if it was not read

	// Hold waits, if it is set, until the database may be worked with, before its tables are
	// read: who reads a file may keep others from writing to it.
	Hold func(context.Context, store.Store, *plan.Plan) error

	AtEnd []func() error // what is to be done when the program ends
}

// ReadPlan reads the plan named by the arguments, with the awkward values that the command line adds.
func (w *Workspace) ReadPlan(args []string) (*plan.Plan, error) {
	p, err := w.readPlan(args)
	if err == nil && !w.Use.IsEmpty() {
		p, err = p.WithUse(w.Use)
	}
	if err != nil || w.Awkward == "" {
		return p, err
	}
	if p.Awkward != nil {
		return nil, diag.Usagef("the plan has awkward: already; change it there, in place of --awkward")
	}
	return p.WithAwkward(w.Awkward)
}

// readPlan reads the plan as it is written.
func (w *Workspace) readPlan(args []string) (*plan.Plan, error) {
	path := DefaultPlan
	if len(args) > 0 {
		path = args[0]
	}
	if w.Inline != nil {
		return plan.Read("the command line", w.Inline)
	}
	if path == standardInput {
		return w.readInput()
	}
	p, err := plan.ReadFile(path)
	if errors.Is(err, plan.ErrMissing) {
		hint := "name the plan: evensprout COMMAND PLAN; or draft one: evensprout survey --db URL --out " + DefaultPlan
		if near := plansNear(path); len(near) > 0 {
			hint = "did you mean " + strings.Join(near, " or ") + "?"
		}
		return nil, diag.Problems{{File: path, Message: "there is no such file", Hint: hint}}
	}
	if err != nil {
		if _, ok := err.(diag.Problems); !ok {
			return nil, diag.Problems{{File: path, Message: "the plan cannot be read: " + err.Error()}}
		}
		return nil, err
	}
	return p, nil
}

// readInput reads a plan from standard input. Its relative files are beside the current folder.
func (w *Workspace) readInput() (*plan.Plan, error) {
	if f, ok := w.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return nil, diag.Usagef("standard input is a terminal: pipe a plan in, such as evensprout check - < plan.yaml")
	}
	data, err := io.ReadAll(io.LimitReader(w.In, plan.MaxFileBytes+1))
	if err != nil {
		return nil, err
	}
	return plan.Read(inputName, data)
}

// Options are those with which a plan is compiled.
func (w *Workspace) Options() (plan.Options, error) {
	o := plan.Options{Sample: w.Sample, Rows: w.OpenRows, WithoutUnits: !w.WithUnits}
	if w.Clock == "today" {
		w.Clock = w.Use.Today + "T00:00:00Z"
	}
	if w.Clock != "" {
		v, err := value.ParseTimestamp(w.Clock)
		if err != nil {
			return o, diag.Usagef("--clock: %w", err)
		}
		o.Clock = v
	}
	return o, nil
}

// URL finds the database: --db, DATABASE_URL, the plan's. It is empty if nobody
// names one. A file that the plan names lies beside the plan.
func (w *Workspace) URL(p *plan.Plan, planPath string) string {
	if w.PlanAlone {
		return ""
	}
	if w.DB != "" {
		return w.DB
	}
	if env := os.Getenv("DATABASE_URL"); env != "" {
		return env
	}
	if p == nil || p.Database == "" {
		return ""
	}
	return store.Beside(w.Drivers, p.Database, filepath.Dir(planPath))
}

// Again opens another connection to the database that is open.
func (w *Workspace) Again(ctx context.Context) (store.Store, error) {
	if w.Opener != nil {
		return w.Opener(ctx)
	}
	return store.Open(ctx, w.Drivers, w.Opened)
}

// Open opens the database for the plan; nil if nobody names one.
func (w *Workspace) Open(ctx context.Context, p *plan.Plan, args []string) (store.Store, string, error) {
	path := DefaultPlan
	if len(args) > 0 {
		path = args[0]
	}
	u := w.URL(p, path)
	if u == "" {
		return nil, "", nil
	}
	if w.Writes {
		if err := w.Guard(u); err != nil {
			return nil, "", err
		}
	}
	w.Opened = u
	s, err := w.Again(ctx)
	return s, w.Shown(u), err
}

// readTables reads what a plan is held against, once the database may be worked with.
func (w *Workspace) readTables(ctx context.Context, s store.Store, p *plan.Plan, o *plan.Options) (err error) {
	if w.Hold != nil {
		if err := w.Hold(ctx, s, p); err != nil {
			return err
		}
	}
	if o.Database, err = s.Survey(ctx); err != nil {
		return err
	}
	o.Existing = func(t *schema.Table) (grow.Table, error) { return archive.Existing(ctx, s, t) }
	if w.Extra != "" {
		o.Shift, err = load.Shift(ctx, journal.Unlocked(s), p, w.Extra)
	}
	return err
}

// openPlan reads the plan and opens its database. Close the store if there is no error.
func (w *Workspace) openPlan(ctx context.Context, args []string, needDatabase bool) (*openedPlan, error) {
	o, err := w.Options()
	if err != nil {
		return nil, err
	}
	p, err := w.ReadPlan(args)
	if err != nil {
		return nil, err
	}
	if w.WithUnits {
		if err := w.ReplaceOccasions(p); err != nil {
			return nil, err
		}
	}
	if w.Writes {
		path := DefaultPlan
		if len(args) > 0 {
			path = args[0]
		}
		if err := w.GuardLogins(p, w.URL(p, path)); err != nil {
			return nil, err
		}
	}
	s, name, err := w.Open(ctx, p, args)
	if err == nil && s == nil && needDatabase {
		err = ErrNoDatabase
	}
	if err != nil {
		// What is wrong with the plan itself is worth telling all the same.
		c, wrong := p.Compile(o)
		if wrong != nil {
			return nil, errors.Join(wrong, err)
		}
		c.Close()
		return nil, err
	}

	if s != nil {
		if err := w.readTables(ctx, s, p, &o); err != nil {
			return nil, errors.Join(err, s.Close())
		}
	}
	return &openedPlan{p, o, s, name}, nil
}

// OpenAlone opens the database without compiling a plan: the arguments may name a plan,
// which only says where it is. The plan is nil if there is none.
func (w *Workspace) OpenAlone(ctx context.Context, planArgs []string) (store.Store, *plan.Plan, string, error) {
	p, err := w.ReadPlan(planArgs)
	if err != nil && (w.URL(nil, "") == "" || planArgs != nil) {
		if planArgs == nil && errors.As(err, new(diag.Problems)) {
			return nil, nil, "", ErrNoDatabase
		}
		return nil, nil, "", err
	}
	s, name, err := w.Open(ctx, p, planArgs)
	if err == nil && s == nil {
		err = ErrNoDatabase
	}
	return s, p, name, err
}

// Compile opens the plan's database and holds the plan against it. Close the store
// if there is no error. Without a database the store is nil.
func (w *Workspace) Compile(
	ctx context.Context,
	args []string,
	needDatabase bool,
) (*plan.Compiled, store.Store, string, error) {
	o, err := w.openPlan(ctx, args, needDatabase)
	if err != nil {
		return nil, nil, "", err
	}
	c, err := o.plan.Compile(o.options)
	if err != nil && o.store != nil {
		o.store.Close()
		return nil, nil, "", o.tableless(err)
	}
	if c != nil && o.store != nil {
		for _, t := range c.Targets {
			if t.Table != nil && t.Table.Unsafe && !t.Plan.Existing {
				w.Lasting = append(w.Lasting, t.Table.Name)
			}
		}
	}
	return c, o.store, o.name, err
}

// CompileWhenReady compiles the plan once the server answers and has the planned tables
// and columns, as long as there is time. Before each try it does what comes first.
func (w *Workspace) CompileWhenReady(
	ctx context.Context,
	args []string,
	wait time.Duration,
	first func() error,
) (*plan.Compiled, store.Store, string, error) {
	deadline := time.Now().Add(wait)
	for told := false; ; told = true {
		c, s, name, err := w.compileAfter(ctx, args, first)
		if err == nil || !time.Now().Before(deadline) || !mayCome(err) {
			return c, s, name, err
		}
		if !told { // it may never come: a name may be mistyped
			w.Say("waiting up to %s for this to change:\n%s", wait, err)
		}
		select {
		case <-ctx.Done():
			return nil, nil, "", context.Cause(ctx)
		case <-time.After(readyPoll):
		}
	}
}

// compileAfter compiles the plan, once something else is done.
func (w *Workspace) compileAfter(ctx context.Context, args []string, first func() error) (
	*plan.Compiled, store.Store, string, error,
) {
	if err := first(); err != nil {
		return nil, nil, "", err
	}
	return w.Compile(ctx, args, true)
}

// Foreseen compiles the plan, and holds it against the database, if one is named: what is
// wrong is one list, whether the plan or the database is.
func (w *Workspace) Foreseen(ctx context.Context, args []string) (*plan.Compiled, store.Store, string, error) {
	t, err := w.openPlan(ctx, args, false)
	if err != nil {
		return nil, nil, "", err
	}
	c, err := t.plan.Compile(t.options)
	if t.store == nil {
		return c, nil, "", err
	}
	var found diag.Problems
	if err != nil && !errors.As(err, &found) {
		return nil, nil, "", errors.Join(err, t.store.Close())
	}
	if c != nil {
		found = c.Warnings
		more, err := w.conditions(ctx, t, c)
		if err != nil {
			return nil, nil, "", errors.Join(err, c.Close(), t.store.Close())
		}
		found = append(found, more...)
	}

	whole := c
	if len(found.Errors()) > 0 {
		whole = nil
	}
	more, err := preflight.Foresee(
		ctx,
		t.store,
		preflight.Foreseen{Plan: t.plan, Database: t.options.Database, Compiled: whole},
	)
	found = append(found, more...)
	found.Sort()
	if err == nil && len(found.Errors()) > 0 {
		err = t.tableless(found)
	}
	if err != nil {
		if c != nil {
			c.Close()
		}
		return nil, nil, "", errors.Join(err, t.store.Close())
	}

	c.Warnings = found
	return c, t.store, t.name, nil
}

// conditions returns what is wrong with a plan's modes and conditions for a database. Conditions
// in SQL are tried there only if the workspace may ask it.
func (w *Workspace) conditions(ctx context.Context, t *openedPlan, c *plan.Compiled) (diag.Problems, error) {
	tried := error(nil)
	if why := w.MayAsk(w.Opened); why == "" {
		tried = load.TryConditions(ctx, t.store, c)
	} else if load.HasConditions(c) {
		w.Say("the plan's conditions in SQL were not tried: %s", why)
	}
	var found diag.Problems
	for _, err := range []error{load.Check(c, t.store.Traits(), load.Options{}), tried} {
		var more diag.Problems
		if err != nil && !errors.As(err, &more) {
			return nil, err
		}
		found = append(found, more...)
	}
	return found, nil
}

// Shown is a database URL without its password.
func (w *Workspace) Shown(u string) string { return store.Describe(w.Drivers, u).Shown }

// MayAsk tells why conditions are not run on the machine of a database; empty if they may be.
func (w *Workspace) MayAsk(u string) string {
	var fault *store.Fault
	if errors.As(w.Guard(u), &fault) {
		return strings.Join(store.Describe(w.Drivers, u).Elsewhere(), ", ") + " is not this machine; " + fault.Hint
	}
	return ""
}

// Guard refuses to write to another machine, or to run code there, unless every one that
// the driver could connect to is allowed by name.
func (w *Workspace) Guard(u string) error {
	place := store.Describe(w.Drivers, u)
	if place.Err != nil {
		return place.Err
	}
	missing := slices.DeleteFunc(place.Elsewhere(), func(host string) bool { return slices.Contains(w.Allowed, host) })
	if len(missing) == 0 {
		return nil
	}
	hint := "to allow it:"
	for _, host := range missing {
		hint += " --allow-host " + host
	}
	return &store.Fault{
		Kind: store.Refused,
		Message: fmt.Sprintf(
			"nothing was done: this would write to %s, which is not this machine",
			strings.Join(missing, ", "),
		),
		Hint: hint,
	}
}

// GuardLogins refuses to write users whose passwords the plan tells to another machine, even one that may be
// written to: everyone who reads the plan could log in there.
func (w *Workspace) GuardLogins(p *plan.Plan, u string) error {
	if u == "" {
		return nil
	}
	elsewhere := store.Describe(w.Drivers, u).Elsewhere()
	if w.Logins || len(elsewhere) == 0 || !p.HasLogins() {
		return nil
	}
	return &store.Fault{
		Kind: store.Refused,
		Message: fmt.Sprintf("nothing was done: the plan has users with known passwords (login), and %s is not this "+
			"machine", strings.Join(elsewhere, ", ")),
		Hint: "to allow it: --allow-logins",
	}
}

// ReplaceOccasions puts the file of --occasions, and standard input, in the place of
// files that the plan names.
func (w *Workspace) ReplaceOccasions(p *plan.Plan) error {
	for _, u := range p.Units {
		if err := w.replaceOccasions(p, u); err != nil {
			return err
		}
	}
	return nil
}

// spool copies standard input into a file whose ending tells its form, because files are
// read several times. The file goes when the program ends.
func (w *Workspace) spool() (string, error) {
	if f, ok := w.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return "", diag.Usagef(
			"standard input is a terminal: pipe the occasions in, such as evensprout load --unit NAME " +
				"--occasions - < sales.csv",
		)
	}

	in := bufio.NewReader(w.In)
	first, err := in.Peek(512)
	if len(first) == 0 && err != nil {
		if errors.Is(err, io.EOF) {
			err = diag.Usagef("standard input is empty")
		}
		return "", err
	}

	ending := ".csv"
	switch text := bytes.TrimLeft(bytes.TrimPrefix(first, []byte("\ufeff")), " \t\r\n"); {
	case bytes.HasPrefix(text, []byte("{")):
		ending = ".ndjson"
	case bytes.HasPrefix(text, []byte("[")):
		ending = ".json"
	case bytes.HasPrefix(text, []byte("PK\x03\x04")):
		ending = ".xlsx"
	}

	folder, err := os.MkdirTemp("", "evensprout-")
	if err != nil {
		return "", err
	}
	w.AtEnd = append(w.AtEnd, func() error { return os.RemoveAll(folder) })
	path := filepath.Join(folder, "standard-input"+ending)
	f, err := safe.Create(path, 0o600)
	if err == nil {
		var n int64
		n, err = io.Copy(f, io.LimitReader(in, maxSpooled+1))
		if err == nil && n > maxSpooled {
			err = fmt.Errorf("standard input is longer than %d GiB", maxSpooled>>30)
		}
		err = errors.Join(err, f.Close())
	}
	return path, err
}

// OpenRows opens a file of rows; what was copied from standard input is called so.
func (w *Workspace) OpenRows(spec plan.FileSpec) (plan.FileRows, diag.Problems) {
	rows, problems := files.Rows(spec)
	if w.spooled == "" || spec.Path != w.spooled {
		return rows, problems
	}
	for _, p := range problems {
		if p.File == spec.Path {
			p.File = inputName
		}
	}
	if rows == nil {
		return nil, problems
	}
	return fromInput{rows}, problems
}

// plansNear finds plans that may be meant by a path at which there is none.
func plansNear(path string) []string {
	var found []string
	for _, pattern := range []string{"*.yaml", "*.yml", "*/" + DefaultPlan} {
		m, _ := filepath.Glob(filepath.Join(filepath.Dir(path), pattern))
		found = append(found, m...)
	}
	if len(found) > 3 {
		found = found[:3]
	}
	return found
}

// mayCome reports whether an error may be gone soon: the server starts, the database is
// made, migrations are running.
func mayCome(err error) bool {
	var problems diag.Problems
	if errors.As(err, &problems) {
		return problems.Errors().OnlyDatabase()
	}
	var fault *store.Fault
	return errors.As(err, &fault) &&
		slices.Contains(
			[]store.FaultKind{store.Unreachable, store.Missing, store.Lost, store.Locked, store.Transient},
			fault.Kind,
		)
}

// openedPlan is a plan, and the database that it is held against.
type openedPlan struct {
	plan    *plan.Plan
	options plan.Options
	store   store.Store // nil if nobody names a database
	name    string      // of the database, for people
}

// tableless is what is wrong where the plan is fine and the database has no tables at all:
// one thing, and not one for each table.
func (o *openedPlan) tableless(err error) error {
	var problems diag.Problems
	if o.options.Database == nil || len(o.options.Database.Tables) > 0 || !errors.As(err, &problems) ||
		!problems.Errors().OnlyDatabase() {
		return err
	}
	return &store.Fault{
		Kind:    store.Missing,
		Message: o.name + " has no tables",
		Hint: "run your migrations first; or evensprout during --schema schema.sql -- COMMAND makes a database " +
			"for a command of yours",
	}
}

// fromInput is rows that came from standard input.
type fromInput struct{ plan.FileRows }

func (f fromInput) Place(n uint64) (string, int) {
	_, line := f.FileRows.Place(n)
	return inputName, line
}

// inputName stands for a file name in messages about standard input.
const inputName = "standard input"

// standardInput is what a file is called that stands for it.
const standardInput = "-"

// replaceOccasions does so for one unit.
func (w *Workspace) replaceOccasions(p *plan.Plan, u *plan.Unit) error {
	from := u.Occasions.RowsFrom
	if w.Unit != u.Name {
		if from != nil && from.File == standardInput {
			return diag.Usagef(
				"the unit %s reads standard input: run it with --unit %s, or leave out units with --without-units",
				u.Name,
				u.Name,
			)
		}
		return nil
	}

	if from == nil {
		if w.OccasionsFile != "" {
			return diag.Usagef(
				"the occasions of %s do not come from a file: rows_from: {...} in the plan says how to read one",
				u.Name,
			)
		}
		return nil
	}

	if w.OccasionsFile != "" {
		from.File = w.OccasionsFile
	}
	if from.File != standardInput {
		if w.OccasionsFile != "" {
			return callAsNamed(p, from)
		}
		return nil
	}

	if w.spooled == "" {
		var err error
		if w.spooled, err = w.spool(); err != nil {
			return err
		}
	}

	from.File = w.spooled
	return nil
}

// callAsNamed makes a path of the command line one of the plan, whose paths begin at its
// folder: relative where the plan's folder is, so that the file is called as it was named.
func callAsNamed(p *plan.Plan, from *plan.RowsFrom) error {
	path, err := filepath.Abs(from.File)
	if err != nil {
		return err
	}
	from.File = path
	if folder, err := filepath.Abs(p.Folder()); err == nil && !filepath.IsAbs(p.Folder()) {
		if near, err := filepath.Rel(folder, path); err == nil {
			from.File = near
		}
	}
	return nil
}

// maxSpooled bounds what is read from standard input.
const maxSpooled = 4 << 30

var ErrNoDatabase = &store.Fault{Kind: store.BadURL, Message: "no database is named",
	Hint: "--db sqlite:app.db, postgres://user@host/name or mysql://user@host/name, or the environment variable " +
		"DATABASE_URL, or database: in the plan"}
