// Package cli is the command line: commands, flags, printing. It computes nothing.
package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"evensprout/internal/archive"
	"evensprout/internal/withdraw"

	"evensprout/internal/journal"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"evensprout/internal/diag"
	"evensprout/internal/grow"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/store/mysql"
	"evensprout/internal/store/postgres"
	"evensprout/internal/store/sqlite"
	"evensprout/internal/value"
)

// The exit codes, as documented in docs/commands.md.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitPlan        = 3
	exitDatabase    = 4
	exitViolation   = 5
	exitRejects     = 6
	exitDifferences = 7
	exitInterrupted = 130
)

// defaultPlan is the plan file where none is named.
const defaultPlan = "evensprout.yaml"

// app is one run of the program.
type app struct {
	in       io.Reader
	out, err *report.Writer // for people
	exact    *report.Exact  // standard output, for programs
	errFile  io.Writer      // standard error as it is
	page     report.Page    // of standard output
	errPage  report.Page    // of standard error
	drivers  []store.Driver
	db       string
	json     bool
	clock    string
	allowed  []string                                   // hosts that may be written to
	writes   bool                                       // the command writes into the database
	opened   string                                     // the URL of the database
	opener   func(context.Context) (store.Store, error) // opens a database of a run's own, in place of the URL; nil: there is none
	extra    string                                     // the further set of rows that is meant; empty for the plan's own
	quiet    bool                                       // say nothing unless something is wrong

	planAlone bool // no database is opened, even if one is named

	sample        uint64   // rows of each entity that are held against the database
	lasting       []string // tables of the plan whose engine has no transactions
	withUnits     bool     // the command is about units, too
	unit          string   // whose occasions come from occasionsFile, or from standard input
	occasionsFile string
	spooled       string // the file that standard input was copied into; empty if it was not read

	atEnd []func() error // what is to be done when the program ends
}

// usageError is a command line that makes no sense.
type usageError struct{ error }

// usagef is a command line that is wrong.
func usagef(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// Report says where the right words stand.
func (e usageError) Report() diag.Report {
	return diag.Report{
		Kind:    diag.Usage,
		Message: strings.TrimSpace(e.Error()),
		Hint:    "evensprout --help lists the commands, evensprout COMMAND --help explains one",
	}
}

// Main runs the program and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends the program at once
	// A pipe that nobody reads any more is an error of output like others, not the end.
	broken := make(chan os.Signal, 1)
	notifyBroken(broken)
	defer signal.Stop(broken)
	a := &app{in: in, exact: &report.Exact{To: out}, errFile: errOut, drivers: drivers()}
	a.page, a.errPage = pageOf(out), pageOf(errOut)
	a.out, a.err = report.NewWriter(out, a.page.Color), report.NewWriter(errOut, a.errPage.Color)
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	c, err := root.ExecuteContextC(ctx)
	if err != nil && !c.Runnable() { // it does nothing by itself, so the command line is wrong
		err = usageError{err}
	}
	for _, do := range a.atEnd {
		err = errors.Join(err, do())
	}
	a.json = a.json || slices.Contains(args, "--json") // flags behind a wrong one are not read
	code := a.exit(err)
	if lost := cmp.Or(a.out.Err(), a.exact.Err()); lost != nil {
		fmt.Fprintf(a.err, "%s the results could not be written: %s\n", a.errPage.Alarm("error:"), lost)
		if a.writes {
			fmt.Fprintln(a.err, "       evensprout history shows what was written to the database")
		}
		return exitFailed
	}
	return code
}

// drivers are those of all engines.
func drivers() []store.Driver {
	return []store.Driver{sqlite.Driver{}, postgres.Driver{}, mysql.Driver{}}
}

const defaultWidth = 120 // characters of a line where there is no terminal

func pageOf(w io.Writer) report.Page {
	p := report.Page{Width: defaultWidth}
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return p
	}
	if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 0 {
		p.Width = width
	}
	p.Color = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	return p
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "evensprout",
		Short: "Reproducible seed and fixture rows for your tables",
		Long: `evensprout reads a plan (one YAML file), grows rows from it that are the same
every time and everywhere, and loads them into your database in one transaction:
all or nothing, with a plain answer to every refusal.

The usual way: survey a database to draft a plan, check it, preview some rows,
load them, look at the tables. The demo command shows all of it at once.`,
		Example: `  evensprout demo                                   # a sample database to play with
  evensprout survey --db sqlite:app.db --out evensprout.yaml
  evensprout check && evensprout preview
  evensprout load --db sqlite:app.db
  evensprout look passengers --db sqlite:app.db`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       version(),
	}
	root.SetVersionTemplate("{{.Version}}\n")
	root.CompletionOptions.HiddenDefaultCmd = true
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		if name, ok := strings.CutPrefix(err.Error(), "unknown flag: --"); ok {
			var names []string
			c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
			if near := diag.Nearest(name, names); near != "" {
				err = fmt.Errorf("%w; did you mean --%s?", err, near)
			}
		}
		var wrong *pflag.InvalidValueError
		if errors.As(err, &wrong) {
			err = fmt.Errorf(
				"--%s takes %s, and here is %q",
				wrong.GetFlag().Name,
				valueOf(wrong.GetFlag()),
				wrong.GetValue(),
			)
		}
		return usageError{err}
	})
	root.PersistentFlags().
		StringVar(&a.db, "db", "", "database URL: sqlite:app.db, postgres://user@host/name, mysql://user@host/name; else the environment variable DATABASE_URL, else the plan's database")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "results as JSON on standard output")
	cobra.EnableCommandSorting = false
	for _, c := range []*cobra.Command{a.demo(), a.survey(), a.check(), a.preview(), a.load(), a.look(), a.compare(), a.withdraw(), a.history(), a.export(), a.during(), a.trial(), a.catalog(), a.planSchema(), a.versionCommand()} {
		args := c.Args
		c.Args = func(cmd *cobra.Command, list []string) error {
			if err := args(cmd, list); err != nil {
				return usagef("%w\nusage: %s", err, cmd.UseLine())
			}
			return nil
		}
		root.AddCommand(c)
	}
	return root
}

// clockFlag lets a command take another clock than the plan's.
func (a *app) clockFlag(c *cobra.Command) {
	c.Flags().
		StringVar(&a.clock, "clock", "", "what now means, in place of the plan's clock, such as 2026-05-01T08:00:00Z")
}

// jobsDefault is the number of growers unless said otherwise.
func jobsDefault() int { return runtime.NumCPU() }

// readPlan reads the plan named by the arguments.
func (a *app) readPlan(args []string) (*plan.Plan, error) {
	path := defaultPlan
	if len(args) > 0 {
		path = args[0]
	}
	p, err := plan.ReadFile(path)
	if errors.Is(err, plan.ErrMissing) {
		hint := "name it: evensprout COMMAND PLAN; or draft one: evensprout survey --db URL --out " + defaultPlan
		if near := plansNear(path); len(near) > 0 {
			hint = "did you mean " + strings.Join(near, " or ") + "?"
		}
		return nil, diag.Problems{{File: path, Message: "there is no such plan", Hint: hint}}
	}
	if err != nil {
		if _, ok := err.(diag.Problems); !ok {
			return nil, diag.Problems{{File: path, Message: "the plan cannot be read: " + err.Error()}}
		}
		return nil, err
	}
	return p, nil
}

// plansNear finds plans that may be meant by a path at which there is none.
func plansNear(path string) []string {
	var found []string
	for _, pattern := range []string{"*.yaml", "*.yml", "*/" + defaultPlan} {
		m, _ := filepath.Glob(filepath.Join(filepath.Dir(path), pattern))
		found = append(found, m...)
	}
	if len(found) > 3 {
		found = found[:3]
	}
	return found
}

func (a *app) options() (plan.Options, error) {
	o := plan.Options{Sample: a.sample, Rows: a.openRows, WithoutUnits: !a.withUnits}
	if a.clock != "" {
		v, err := value.ParseTimestamp(a.clock)
		if err != nil {
			return o, usagef("--clock: %w", err)
		}
		o.Clock = v
	}
	return o, nil
}

// url finds the database: --db, DATABASE_URL, the plan's. It is empty if nobody
// names one. A file that the plan names lies beside the plan.
func (a *app) url(p *plan.Plan, planPath string) string {
	if a.planAlone {
		return ""
	}
	if a.db != "" {
		return a.db
	}
	if env := os.Getenv("DATABASE_URL"); env != "" {
		return env
	}
	if p == nil || p.Database == "" {
		return ""
	}
	return store.Beside(a.drivers, p.Database, filepath.Dir(planPath))
}

// open opens the database for the plan; nil if nobody names one.
func (a *app) open(ctx context.Context, p *plan.Plan, args []string) (store.Store, string, error) {
	path := defaultPlan
	if len(args) > 0 {
		path = args[0]
	}
	u := a.url(p, path)
	if u == "" {
		return nil, "", nil
	}
	if a.writes {
		if err := a.guard(u); err != nil {
			return nil, "", err
		}
	}
	a.opened = u
	s, err := a.again(ctx)
	return s, a.shown(u), err
}

var errNoDatabase = &store.Fault{Kind: store.BadURL, Message: "no database is named",
	Hint: "--db sqlite:app.db, postgres://user@host/name or mysql://user@host/name, or the environment variable DATABASE_URL, or database: in the plan"}

// openedPlan is a plan, and the database that it is held against.
type openedPlan struct {
	plan    *plan.Plan
	options plan.Options
	store   store.Store // nil if nobody names a database
	name    string      // of the database, for people
}

// openPlan reads the plan and opens its database. Close the store if there is no error.
func (a *app) openPlan(ctx context.Context, args []string, needDatabase bool) (*openedPlan, error) {
	o, err := a.options()
	if err != nil {
		return nil, err
	}
	p, err := a.readPlan(args)
	if err != nil {
		return nil, err
	}
	if a.withUnits {
		if err := a.replaceOccasions(p); err != nil {
			return nil, err
		}
	}
	s, name, err := a.open(ctx, p, args)
	if err == nil && s == nil && needDatabase {
		err = errNoDatabase
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
		if o.Database, err = s.Survey(ctx); err == nil && a.extra != "" {
			o.Shift, err = load.Shift(ctx, s, p, a.extra)
		}
		if err != nil {
			return nil, errors.Join(err, s.Close())
		}
		o.Existing = func(t *schema.Table) (grow.Table, error) { return archive.Existing(ctx, s, t) }
	}
	return &openedPlan{p, o, s, name}, nil
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
		Hint:    "run your migrations first; or evensprout during --schema schema.sql -- COMMAND makes a database for a command of yours",
	}
}

// compile opens the plan's database and holds the plan against it. Close the store
// if there is no error. Without a database the store is nil.
func (a *app) compile(
	ctx context.Context,
	args []string,
	needDatabase bool,
) (*plan.Compiled, store.Store, string, error) {
	o, err := a.openPlan(ctx, args, needDatabase)
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
				a.lasting = append(a.lasting, t.Table.Name)
			}
		}
	}
	return c, o.store, o.name, err
}

// shown is a database URL without its password.
func (a *app) shown(u string) string { return store.Describe(a.drivers, u).Shown }

// allowFlag lets a command work on other machines.
func (a *app) allowFlag(c *cobra.Command) {
	c.Flags().
		StringArrayVar(&a.allowed, "allow-host", nil, "a host, other than this machine, on which the command may write or run code (repeatable)")
}

// mayAsk tells why conditions are not run on the machine of a database; empty if they may be.
func (a *app) mayAsk(u string) string {
	var fault *store.Fault
	if errors.As(a.guard(u), &fault) {
		return strings.Join(store.Describe(a.drivers, u).Elsewhere(), ", ") + " is not this machine; " + fault.Hint
	}
	return ""
}

// guard refuses to write to another machine, or to run code there, unless every one that
// the driver could connect to is allowed by name.
func (a *app) guard(u string) error {
	place := store.Describe(a.drivers, u)
	if place.Err != nil {
		return place.Err
	}
	missing := slices.DeleteFunc(place.Elsewhere(), func(host string) bool { return slices.Contains(a.allowed, host) })
	if len(missing) == 0 {
		return nil
	}
	hint := "if it is meant:"
	for _, host := range missing {
		hint += " --allow-host " + host
	}
	return &store.Fault{
		Kind: store.Refused,
		Message: fmt.Sprintf(
			"this would write to %s, which is not this machine, so nothing was done",
			strings.Join(missing, ", "),
		),
		Hint: hint,
	}
}

// warn tells the warnings about a plan.
func (a *app) warn(c *plan.Compiled) {
	for _, w := range c.Warnings {
		fmt.Fprintln(a.err, w.Show(a.errPage.Bold, a.errPage.Alarm))
	}
}

// writeJSON writes a result for programs.
func (a *app) writeJSON(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	// The encoder leaves some characters that act on terminals. All of them stand in texts.
	_, err := io.WriteString(a.exact, safe.Visible(strings.ReplaceAll(b.String(), "\x7f", `\u007f`)))
	return err
}

// exitCodes are those of failures.
var exitCodes = map[diag.Kind]int{
	diag.Failed:      exitFailed,
	diag.Usage:       exitUsage,
	diag.BadPlan:     exitPlan,
	diag.Database:    exitDatabase,
	diag.Violation:   exitViolation,
	diag.Interrupted: exitInterrupted,
}

// exit shows an error and returns the exit code for it.
func (a *app) exit(err error) int {
	var ended commandEnded
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errRejects):
		return exitRejects // shown with the results
	case errors.As(err, &ended) && err == error(ended):
		return ended.code // the command has said what it had to say
	case errors.Is(err, errDifferences):
		return exitDifferences
	}
	r := diag.Of(err)
	if r.Members == nil && r.Message == "" && errors.Is(err, context.Canceled) {
		r = diag.Report{Kind: diag.Interrupted, Message: "interrupted", Data: true}
	}
	failure := map[string]any{"message": err.Error(), "exit_code": exitCodes[r.Kind]}
	maps.Copy(failure, r.Members)
	if r.Message != "" || r.Layout == nil {
		a.alarm(cmp.Or(r.Message, err.Error()))
	}
	a.layout(r.Layout, err)
	for _, line := range r.Details {
		fmt.Fprintln(a.err, "        ", line)
	}
	a.hint(r.Hint)
	var outcome diag.Outcome
	end := r.End
	if errors.As(err, &outcome) {
		text, members := outcome.Outcome()
		end = text
		maps.Copy(failure, members)
	} else if r.Data {
		end = a.asBefore()
	}
	if end != "" {
		fmt.Fprintln(a.err, end)
	}
	if a.json {
		a.writeJSON(map[string]any{"error": failure})
	}
	return exitCodes[r.Kind]
}

func (a *app) alarm(message string) { fmt.Fprintln(a.err, a.errPage.Alarm("error:"), message) }

func (a *app) hint(text string) {
	if text != "" {
		fmt.Fprintln(a.err, "      ", text)
	}
}

// asBefore is what became of the data where nothing is committed.
func (a *app) asBefore() string {
	if len(a.lasting) > 0 {
		return fmt.Sprintf(
			"What can be was rolled back; the engine of %s has no transactions: rows that were written there, stay.",
			strings.Join(a.lasting, ", "),
		)
	}
	return "Everything was rolled back: the tables are as before."
}

// layout shows what has a form of its own.
func (a *app) layout(of any, err error) {
	switch x := of.(type) {
	case diag.Problems:
		fmt.Fprintln(a.err, x.Show(a.errPage.Bold, a.errPage.Alarm))
		fmt.Fprintf(a.err, "%s\n", a.errPage.Alarm(diag.Count(len(x.Errors()), "problem", "problems")+"; nothing was written"))
		if fault := (*store.Fault)(nil); errors.As(err, &fault) { // a database that could not be looked at, either
			a.alarm(fault.Error())
			a.hint(fault.Hint)
		}
	case *journal.Refusal:
		a.refused(x)
	case *load.Broken:
		a.tellBroken(a.err, a.errPage, x.Rules)
	case *load.Present:
		t := report.Table{Columns: []report.Column{{Name: "Table"}, {Name: "Rows", Number: true}, {Name: "Found there"}}}
		for _, p := range x.Tables {
			t.Rows = append(t.Rows, []string{p.Table, diag.Number(p.Rows), p.Found})
		}
		fmt.Fprintln(a.err, a.errPage.Draw(t))
		fmt.Fprint(a.err, presentHelp)
	case *withdraw.Withdrawal:
		tellLeft(a.err, x)
	}
}

// valueOf says what the value of a flag is.
func valueOf(f *pflag.Flag) string {
	switch kind := f.Value.Type(); {
	case kind == "duration":
		return "a span of time, such as 30s, 5m or 1h"
	case strings.HasPrefix(kind, "int"), strings.HasPrefix(kind, "uint"), kind == "count":
		return "a whole number"
	case kind == "bool":
		return "true or false"
	}
	return "another value"
}

const presentHelp = `
You can
  leave tables alone that have rows    when: empty, at the head of the plan or at an entity
  add what is missing, change it       write: keep, upsert, update or replace, at an entity
  let the database number the rows     keys: database, at an entity
  load other rows beside these         another seed, and keys that start higher, such as id: {count: 100001}
  start over                           empty the tables, and load again
`

// refused tells a violation in the plan's words.
func (a *app) refused(r *journal.Refusal) { a.tellRefused(a.err, a.errPage, r) }

func (a *app) tellRefused(w io.Writer, page report.Page, r *journal.Refusal) {
	fmt.Fprintf(w, "%s %s\n", page.Alarm("refused:"), r.Error())
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(w, "  %-11s %s\n", name, strings.ReplaceAll(value, "\n", "\n              "))
		}
	}
	line("violation", string(r.Kind))
	if r.Step == "" {
		line("entity", r.Entity)
		line("row", r.Row)
	} else {
		line("unit", r.Entity)
		line("occasion", r.Row)
		line("step", r.Step)
	}
	line("line", r.Place)
	for i, f := range r.Fields {
		name := f
		if i < len(r.Columns) && r.Columns[i] != f {
			name += " (column " + r.Columns[i] + ")"
		}
		if i < len(r.Values) {
			name += " = " + cutValue(r.Values[i])
		}
		line("field", name)
	}
	if r.Constraint == "" {
		line("table", r.Table)
	} else {
		line("constraint", r.Constraint+" on "+r.Table)
	}
	line("other row", r.Other)
	words := r.Message
	if r.Code != "" {
		words += " [" + r.Code + "]"
	}
	line("database", words)
	line("what to do", r.Hint)
}

func cutValue(v string) string {
	if len(v) > 120 {
		return strings.ToValidUTF8(v[:120], "") + "..."
	}
	return v
}

const development = "(development)"

// release is the program and the module's version.
func release() string {
	if info, ok := debug.ReadBuildInfo(); ok && info.Main.Version != "" && info.Main.Version != "(devel)" {
		return "evensprout " + info.Main.Version
	}
	return "evensprout " + development
}

// version is the release, and where it was built from.
func version() string {
	return fmt.Sprintf("%s, edition 1, %s %s/%s", release(), runtime.Version(), runtime.GOOS, runtime.GOARCH)
}
