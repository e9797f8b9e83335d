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
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"evensprout/internal/app"
	"evensprout/internal/withdraw"

	"evensprout/internal/journal"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"evensprout/internal/diag"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/store"
	"evensprout/internal/store/mysql"
	"evensprout/internal/store/postgres"
	"evensprout/internal/store/sqlite"
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

// program is one run of the program.
type program struct {
	ws       *app.Workspace
	out, err *report.Writer // for people
	exact    *report.Exact  // standard output, for programs
	errFile  io.Writer      // standard error as it is
	page     report.Page    // of standard output
	errPage  report.Page    // of standard error
	json     bool
	quiet    bool // say nothing unless something is wrong
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
	a := &program{exact: &report.Exact{To: out}, errFile: errOut}
	a.ws = &app.Workspace{In: in, Drivers: drivers(), Say: a.say}
	a.page, a.errPage = pageOf(out), pageOf(errOut)
	a.out, a.err = report.NewWriter(out, a.page.Color), report.NewWriter(errOut, a.errPage.Color)
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	c, err := root.ExecuteContextC(ctx)
	if err != nil && !c.Runnable() { // it does nothing by itself, so the command line is wrong
		err = &diag.UsageError{Err: err}
	}
	for _, do := range a.ws.AtEnd {
		err = errors.Join(err, do())
	}
	a.json = a.json || slices.Contains(args, "--json") // flags behind a wrong one are not read
	code := a.exit(err)
	if lost := cmp.Or(a.out.Err(), a.exact.Err()); lost != nil {
		fmt.Fprintf(a.err, "%s the results could not be written: %s\n", a.errPage.Alarm("error:"), lost)
		if a.ws.Writes {
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

func (a *program) root() *cobra.Command {
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
		return &diag.UsageError{Err: err}
	})
	root.PersistentFlags().
		StringVar(&a.ws.DB, "db", "", "database URL: sqlite:app.db, postgres://user@host/name, "+
			"mysql://user@host/name; else the environment variable DATABASE_URL, else the plan's database")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "results as JSON on standard output")
	cobra.EnableCommandSorting = false
	for _, c := range []*cobra.Command{a.demo(), a.survey(), a.check(), a.preview(), a.load(), a.look(), a.compare(),
		a.withdraw(), a.history(), a.export(), a.during(), a.trial(), a.catalog(), a.planSchema(), a.versionCommand()} {
		args := c.Args
		c.Args = func(cmd *cobra.Command, list []string) error {
			if err := args(cmd, list); err != nil {
				return diag.Usagef("%w\nusage: %s", err, cmd.UseLine())
			}
			return nil
		}
		root.AddCommand(c)
	}
	return root
}

// clockFlag lets a command take another clock than the plan's.
func (a *program) clockFlag(c *cobra.Command) {
	c.Flags().
		StringVar(&a.ws.Clock, "clock", "", "what now means, in place of the plan's clock, such as "+
			"2026-05-01T08:00:00Z")
}

// jobsDefault is the number of growers unless said otherwise.
func jobsDefault() int { return runtime.NumCPU() }

// allowFlag lets a command work on other machines.
func (a *program) allowFlag(c *cobra.Command) {
	c.Flags().
		StringArrayVar(&a.ws.Allowed, "allow-host", nil, "a host, other than this machine, on which the command "+
			"may write or run code (repeatable)")
}

// warn tells the warnings about a plan.
func (a *program) warn(c *plan.Compiled) {
	for _, w := range c.Warnings {
		fmt.Fprintln(a.err, w.Show(a.errPage.Bold, a.errPage.Alarm))
	}
}

// writeJSON writes a result for programs.
func (a *program) writeJSON(v any) error {
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
func (a *program) exit(err error) int {
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

func (a *program) alarm(message string) { fmt.Fprintln(a.err, a.errPage.Alarm("error:"), message) }

func (a *program) hint(text string) {
	if text != "" {
		fmt.Fprintln(a.err, "      ", text)
	}
}

// asBefore is what became of the data where nothing is committed.
func (a *program) asBefore() string {
	if len(a.ws.Lasting) > 0 {
		return fmt.Sprintf(
			"What can be was rolled back; the engine of %s has no transactions: rows that were written there, stay.",
			strings.Join(a.ws.Lasting, ", "),
		)
	}
	return "Everything was rolled back: the tables are as before."
}

// layout shows what has a form of its own.
func (a *program) layout(of any, err error) {
	switch x := of.(type) {
	case diag.Problems:
		fmt.Fprintln(a.err, x.Show(a.errPage.Bold, a.errPage.Alarm))
		fmt.Fprintf(a.err, "%s\n", a.errPage.Alarm(diag.Count(len(x.Errors()), "problem", "problems")+"; nothing "+
			"was written"))
		if fault := (*store.Fault)(nil); errors.As(err, &fault) { // a database that could not be looked at, either
			a.alarm(fault.Error())
			a.hint(fault.Hint)
		}
	case *journal.Refusal:
		a.refused(x)
	case *load.Broken:
		a.tellBroken(a.err, a.errPage, x.Rules)
	case *load.Present:
		t := report.Table{Columns: []report.Column{{Name: "Table"}, {Name: "Rows", Number: true},
			{Name: "Found there"}}}
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
func (a *program) refused(r *journal.Refusal) { a.tellRefused(a.err, a.errPage, r) }

func (a *program) tellRefused(w io.Writer, page report.Page, r *journal.Refusal) {
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
