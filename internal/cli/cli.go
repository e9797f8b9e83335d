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
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"evensprout/internal/app"
	"evensprout/internal/value"
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
	ws        *app.Workspace
	out, err  *report.Writer // for people
	exact     *report.Exact  // standard output, for programs
	errFile   io.Writer      // standard error as it is
	page      report.Page    // of standard output
	errPage   report.Page    // of standard error
	json      bool
	quiet     bool // print nothing unless something is wrong
	verbose   bool // print each statement
	values    bool // and the values that are bound
	overwrite bool // outputs replace files that this program did not make
	// overwrites tells that the command has a flag for that.
	overwrites bool
	color      wordFlag
	logFormat  wordFlag
	log        *eventLog // nil: standard error is text

	statements sync.Mutex // held while one is printed
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
	a := &program{exact: &report.Exact{To: out}, errFile: errOut, color: newColorFlag(),
		logFormat: newLogFlag()}
	a.ws = &app.Workspace{In: in, Drivers: drivers(a.showStatement), Say: a.say}
	a.page, a.errPage = pageOf(out), pageOf(errOut)
	a.out, a.err = report.NewWriter(out, a.page.Color), report.NewWriter(errOut, a.errPage.Color)
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(a.out)
	root.SetErr(a.err)
	c, err := root.ExecuteContextC(ctx)
	if err != nil && !c.Runnable() { // it does nothing by itself, so the command line is wrong
		err = unknownCommand(root, args, err)
	}
	var wrong *diag.UsageError
	if errors.As(err, &wrong) && c.HasParent() {
		wrong.Command = c.CommandPath()
	}
	for _, do := range a.ws.AtEnd {
		err = errors.Join(err, do())
	}
	a.json = a.json || slices.Contains(args, "--json") // flags behind a wrong one are not read
	if slices.Contains(args, "--log-format=json") {
		a.logFormat.word = jsonLog
		a.setLog()
	}
	lost := cmp.Or(a.out.Err(), a.exact.Err())
	if readerGone(lost) && !a.ws.Writes && (err == nil || readerGone(err)) {
		return exitFailed // the reader, such as head, has what it wants
	}
	code := a.exit(err)
	if lost = cmp.Or(lost, a.out.Err(), a.exact.Err()); lost != nil {
		fmt.Fprintf(a.err, "%s the results could not be written: %s\n", a.errPage.Alarm("error:"), lost)
		if a.ws.Writes {
			fmt.Fprintln(a.err, "       evensprout history shows what was written to the database")
		}
		return exitFailed
	}
	return code
}

// drivers are those of all engines. They call watch for each statement.
func drivers(watch func(store.Statement)) []store.Driver {
	return []store.Driver{sqlite.Driver{Watch: watch}, postgres.Driver{Watch: watch}, mysql.Driver{Watch: watch}}
}

// showStatement prints a statement with its time for --verbose. Its text has parameters in place of
// values. Several connections call it at a time.
func (a *program) showStatement(s store.Statement) {
	if !a.verbose {
		return
	}
	a.statements.Lock()
	defer a.statements.Unlock()
	text := strings.Join(strings.Fields(s.Text), " ")
	if runes := []rune(text); len(runes) > maxStatement {
		text = string(runes[:maxStatement]) + "..."
	}
	if a.log != nil {
		a.log.statement(s, text, a.values)
		return
	}
	fmt.Fprintf(a.err, "%10s  %8s  %s\n", s.Elapsed.Round(10*time.Microsecond),
		diag.Count(max(s.Rows, 0), "row", "rows"), text)
	if a.values && len(s.Values) > 0 {
		fmt.Fprintf(a.err, "%22s%s\n", "", strings.Join(shownValues(s.Values), ", "))
	}
}

// maxStatement is how many characters of a statement --verbose prints.
const maxStatement = 500

const defaultWidth = 120 // characters of a line where there is no terminal

// shownValues are values as --show-values prints them, cut where they are long.
func shownValues(list []value.Value) []string {
	out := make([]string, len(list))
	for i, v := range list {
		text := report.Cell(v)
		if runes := []rune(text); len(runes) > maxValue {
			text = string(runes[:maxValue]) + "..."
		}
		if out[i] = text; v.Type == value.Text {
			out[i] = strconv.Quote(text)
		}
	}
	return out
}

// maxValue is how many characters of a value --show-values prints.
const maxValue = 60

// setColor follows the flag --color.
func (a *program) setColor() {
	if a.color.word == "auto" {
		return
	}
	on := a.color.word == "always"
	a.page.Color, a.errPage.Color = on, on
	a.out.ShowColor(on)
	a.err.ShowColor(on)
}

// pageOf says how wide a writer is and whether it shows colour.
func pageOf(w io.Writer) report.Page {
	p := report.Page{Width: defaultWidth}
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return p
	}
	if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 0 {
		p.Width = width
	}
	p.Height = heightOf(w)
	p.Color = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	return p
}

// root makes the command that all others are part of.
func (a *program) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "evensprout",
		Short: "Reproducible seed and fixture rows for your tables",
		Long: `evensprout reads a plan (one YAML file), generates rows from it that are the same every
time and on every machine, and loads them into your database in one transaction: all or
nothing, with a clear answer to every refusal.

Usual steps: survey a database to draft a plan, check it, preview some rows, load them,
look at the tables. The command demo shows all of this at once.`,
		Example: `  evensprout demo                                # a sample database
  evensprout survey --db sqlite:app.db --out evensprout.yaml
  evensprout check && evensprout preview
  evensprout load --db sqlite:app.db
  evensprout look passengers --db sqlite:app.db`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       version(),
	}
	root.SetVersionTemplate("{{.Version}}\n")
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
				"--%s takes %s, got %q",
				wrong.GetFlag().Name,
				valueOf(wrong.GetFlag()),
				wrong.GetValue(),
			)
		}
		return &diag.UsageError{Err: err}
	})
	root.PersistentFlags().
		StringVar(&a.ws.DB, "db", "", "database `URL`, such as sqlite:app.db, postgres://user@host/name or "+
			"mysql://user@host/name (default: $DATABASE_URL, then the plan's database)")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print results as JSON")
	root.PersistentFlags().BoolVarP(&a.quiet, "quiet", "q", false, "print nothing unless something is wrong")
	root.Flags().Bool("version", false, "print the version")
	root.Flags().BoolP("help", "h", false, "print this help")
	root.PersistentFlags().BoolVarP(&a.verbose, "verbose", "v", false, "print each statement with its time")
	root.PersistentFlags().BoolVar(&a.values, "show-values", false, "like --verbose, with the values that are bound")
	root.PersistentFlags().Var(&a.logFormat, "log-format", "standard error as text (default) or json")
	root.PersistentFlags().Var(&a.color, "color", "auto (on a terminal), always or never")
	root.PersistentPreRun = func(*cobra.Command, []string) {
		a.setColor()
		a.setLog()
		a.verbose = a.verbose || a.values
	}
	root.SetHelpFunc(func(c *cobra.Command, _ []string) { help(root.OutOrStdout(), c) })
	cobra.EnableCommandSorting = false
	a.addCommands(root)
	return root
}

// opensNone says why a command does not take --db.
const opensNone = "opens no database"

// withoutDatabase refuses --db, so that nobody believes that the command works on that database.
func withoutDatabase(c *cobra.Command, why string) *cobra.Command {
	c.Annotations = map[string]string{noDatabase: why}
	c.PreRunE = func(c *cobra.Command, _ []string) error {
		if c.Flags().Changed("db") {
			return diag.Usagef("%s %s: leave out --db", c.Name(), why)
		}
		return nil
	}
	return c
}

// addCommands adds all commands, under the headings of the program's help.
func (a *program) addCommands(root *cobra.Command) {
	for _, g := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{startCommands, "Start:", []*cobra.Command{
			withoutDatabase(a.demo(), "makes an SQLite database of its own"), a.survey()}},
		{planCommands, "Work on a plan:", []*cobra.Command{a.check(), a.preview(),
			a.diagram(), a.pageCommand(), withoutDatabase(a.catalog(), opensNone),
			withoutDatabase(a.planSchema(), opensNone)}},
		{databaseCommands, "Work on a database:", []*cobra.Command{a.load(), a.add(), a.look(), a.compare(),
			a.withdraw(), a.history(), a.during(), a.trial()}},
		{otherCommands, "Other:", []*cobra.Command{a.export(), withoutDatabase(a.versionCommand(), opensNone)}},
	} {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.id
			args := c.Args
			c.Args = func(cmd *cobra.Command, list []string) error {
				return wrongArguments(cmd, list, args(cmd, list))
			}
			c.Flags().BoolP("help", "h", false, "print this help")
			root.AddCommand(c)
			a.complete(c)
		}
	}
	root.SetCompletionCommandGroupID(otherCommands)
	root.SetHelpCommand(helpCommand(root))
	root.InitDefaultCompletionCmd()
	for _, c := range root.Commands() {
		if c.Name() == "completion" {
			completionHelp(c)
		}
	}
}

// clockFlag lets a command take another clock than the plan's.
func (a *program) clockFlag(c *cobra.Command) {
	c.Flags().
		StringVar(&a.ws.Clock, "clock", "", "the plan's current time, such as 2026-05-01T08:00:00Z")
}

// jobsDefault is the number of growers unless said otherwise.
func jobsDefault() int { return runtime.NumCPU() }

// allowFlag lets a command work on other machines.
func (a *program) allowFlag(c *cobra.Command) {
	c.Flags().
		StringArrayVar(&a.ws.Allowed, "allow-host", nil, "allow writing to this `HOST`; repeatable")
}

// awkwardFlag lets a command mix awkward values into the plan's rows.
func (a *program) awkwardFlag(c *cobra.Command) {
	c.Flags().StringVar(&a.ws.Awkward, "awkward", "", "mix in this share of awkward values, such as 2%")
}

// loginsFlag lets a command write users with known passwords to another machine.
func (a *program) loginsFlag(c *cobra.Command) {
	c.Flags().BoolVar(&a.ws.Logins, "allow-logins", false, "with --allow-host: users with known passwords, too")
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
	if code, ok := shown(err); ok {
		return code
	}
	r := diag.Of(err)
	if r.Members == nil && r.Message == "" && errors.Is(err, context.Canceled) {
		r = diag.Report{Kind: diag.Interrupted, Message: "interrupted", Data: true}
	}
	failure := failureJSON(err, r)
	var outcome diag.Outcome
	end := r.End
	if errors.As(err, &outcome) {
		text, members := outcome.Outcome()
		end = text
		maps.Copy(failure, members)
	} else if r.Data && a.ws.Writes {
		end = a.asBefore()
	}

	if a.log != nil {
		a.log.failed(failure, end)
	} else {
		a.printFailure(err, r, end)
	}
	if a.json {
		a.writeJSON(map[string]any{"error": failure})
	}
	return exitCodes[r.Kind]
}

// printFailure prints what failed, what to do, and what became of the data.
func (a *program) printFailure(err error, r diag.Report, end string) {
	if r.Message != "" || r.Layout == nil {
		a.alarm(cmp.Or(r.Message, err.Error()))
	}
	a.layout(r.Layout, err)
	for _, line := range r.Details {
		fmt.Fprintln(a.err, "        ", line)
	}
	a.hint(r.Hint)
	if end != "" {
		fmt.Fprintln(a.err, end)
	}
}

// failureJSON is a failure for programs: its message in one line, and what to do apart from it.
func failureJSON(err error, r diag.Report) map[string]any {
	message := cmp.Or(r.Message, err.Error())
	if problems, ok := r.Layout.(diag.Problems); ok {
		message = problems.Headline()
	}
	failure := map[string]any{"message": strings.Join(strings.Fields(message), " "), "exit_code": exitCodes[r.Kind]}
	if r.Hint != "" {
		failure["hint"] = r.Hint
	}
	maps.Copy(failure, r.Members)
	return failure
}

// shown returns the exit code of a command that has printed everything that there is to say.
func shown(err error) (code int, ok bool) {
	var ended commandEnded
	switch {
	case err == nil:
		return exitDone, true
	case errors.Is(err, errRejects):
		return exitRejects, true // they are among the results
	case errors.As(err, &ended) && err == error(ended):
		return ended.code, true
	case errors.Is(err, errDifferences):
		return exitDifferences, true
	}
	return 0, false
}

// alarm prints what failed.
func (a *program) alarm(message string) { fmt.Fprintln(a.err, a.errPage.Alarm("error:"), message) }

// hint prints what to do about it, if that is known.
func (a *program) hint(text string) {
	if text != "" {
		fmt.Fprintln(a.err, "      ", text)
	}
}

// asBefore is what became of the data where nothing is committed.
func (a *program) asBefore() string {
	if len(a.ws.Lasting) > 0 {
		return fmt.Sprintf(
			"Rolled back, except rows of %s: its storage engine has no transactions.",
			strings.Join(a.ws.Lasting, ", "),
		)
	}
	return "Everything was rolled back: the tables are unchanged."
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
		a.printBroken(a.err, a.errPage, x.Rules)
	case *load.Present:
		t := report.Table{Columns: []report.Column{{Name: "Table"}, {Name: "Rows", Number: true},
			{Name: "Found there"}}}
		for _, p := range x.Tables {
			t.Rows = append(t.Rows, []string{p.Table, diag.Number(p.Rows), p.Found})
		}
		fmt.Fprintln(a.err, a.errPage.Draw(t))
		fmt.Fprint(a.err, presentHelp)
	case *withdraw.Withdrawal:
		printLeft(a.err, x)
	}
}

// valueOf says what the value of a flag is.
func valueOf(f *pflag.Flag) string {
	if words, ok := f.Value.(*wordFlag); ok {
		return words.list()
	}
	switch kind := f.Value.Type(); {
	case kind == rowsType:
		return "an entity and a number, such as Passenger=10000"
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
func (a *program) refused(r *journal.Refusal) { a.printRefused(a.err, a.errPage, r) }

// printRefused prints the refusal of a row: what, where, and what to do.
func (a *program) printRefused(w io.Writer, page report.Page, r *journal.Refusal) {
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

// cutValue cuts a long value for a message.
func cutValue(v string) string {
	if len(v) > 120 {
		return strings.ToValidUTF8(v[:120], "") + "..."
	}
	return v
}
