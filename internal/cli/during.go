package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"evensprout/internal/app"
	"evensprout/internal/unit"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"evensprout/internal/diag"
	"evensprout/internal/during"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// duringFlags are the flags of the command during.
type duringFlags struct {
	private, shared, keep   bool
	scripts, from, env      []string
	prepare                 string
	noCache, external       bool
	timeout, wait           time.Duration
	sweep, sweepKept, cache bool
}

// during makes the command during.
func (a *program) during() *cobra.Command {
	var f duringFlags
	c := &cobra.Command{
		Use:   "during [PLAN] -- COMMAND [ARGS...]",
		Short: "Load, run a command such as your tests, then remove everything",
		Long: `during loads the plan, runs a command with the database in its environment, and
removes everything again when the command ends, however it ends. It passes on the
command's signals, output and exit code.

By default the command gets a database of its own, created for it and dropped
afterwards, so any number of runs can go on at the same time: on the server of the
database URL or, for SQLite, in a file. Its tables come from --schema (a SQL script) or
--prepare (your own migration command, which runs with the new database in its
environment). Without either, the database of the URL is copied and its planned tables
are emptied. Tables whose rows are on another server are not copied, unless
--with-external asks for them. A filled database is kept and reused while plan, files
and schema are unchanged; --prepare-from names the files that your migrations read.

--shared loads into the database of the URL itself and withdraws the load afterwards;
runs wait for each other. --keep-on-failure keeps the database if the command fails,
and prints how to connect. --sweep removes databases that killed runs left behind, and
withdraws their loads from the database of the URL if the plan is still the same.

The command finds the database in DATABASE_URL; in DB_HOST, DB_PORT, DB_USER, DB_PASSWORD
and DB_NAME; in the variables of the database's own clients (PGHOST..., MYSQL_HOST...);
and in JDBC_URL, DATABASE_DSN (Go, MariaDB) and DATABASE_FILE (SQLite). --env adds
others: --env APP_DB={url}, with {host}, {port}, {user}, {password} and {name}.

Exit codes: the command's own; 124 after --timeout; if it did not run, those of load.`,
		Example: `  evensprout during -- go test ./...
  evensprout during --schema schema.sql -- pytest
  evensprout during --prepare 'bin/migrate up' --prepare-from migrations -- npm test
  evensprout during larkwater/evensprout.yaml --shared -- ./smoke-test.sh
  evensprout during --keep-on-failure --timeout 10m --env APP_DB={url} -- mvn -q verify
  evensprout during --sweep`,
		Args: func(cmd *cobra.Command, args []string) error {
			at := cmd.ArgsLenAtDash()
			switch {
			case f.sweep && at >= 0:
				return errors.New("--sweep runs no command")
			case f.sweep && len(args) > 1, !f.sweep && at > 1:
				return errors.New("one plan, at most")
			case !f.sweep && (at < 0 || at == len(args)):
				return errors.New(
					"put the command after two hyphens: evensprout during -- npm test",
				)
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			a.ws.Writes, a.ws.WithUnits = true, true
			if f.sweep {
				return a.swept(cmd.Context(), args, &f)
			}
			at := cmd.ArgsLenAtDash()
			run := &during.Command{Args: args[at:], Timeout: f.timeout, In: a.ws.In, Out: a.exact.To, Err: a.errFile}
			if in, ok := a.ws.In.(*os.File); ok && term.IsTerminal(int(in.Fd())) {
				run.Interactive = true
			}
			if f.shared {
				return a.duringShared(cmd.Context(), args[:at], run, &f)
			}
			return a.duringPrivate(cmd.Context(), args[:at], run, &f)
		},
	}
	c.Flags().BoolVar(&f.private, "private", false, "give the command a database of its own (default)")
	c.Flags().BoolVar(&f.shared, "shared", false, "load into the database of the URL, and withdraw the load "+
		"afterwards")
	c.Flags().
		BoolVar(&f.keep, "keep-on-failure", false, "keep the database if the command fails, and print how to connect")
	c.Flags().
		StringArrayVar(&f.scripts, "schema", nil, "SQL `FILE` that creates the tables; repeatable")
	c.Flags().
		StringVar(&f.prepare, "prepare", "", "shell command that creates the tables, with the database in its "+
			"environment")
	c.Flags().
		StringArrayVar(&f.from, "prepare-from", nil, "file or folder that --prepare reads; while it is "+
			"unchanged, a filled database is reused; repeatable")
	c.Flags().BoolVar(&f.noCache, "no-cache", false, "fill a fresh database, and keep no copy for later runs")
	c.Flags().
		BoolVar(&f.external, "with-external", false, "also copy tables whose rows are on another server, such as "+
			"foreign tables: the command then works on those rows")
	c.Flags().
		StringArrayVar(&f.env, "env", nil, "NAME=TEXT: set a variable for the command; {url}, {host}, {port}, "+
			"{user}, {password} and {name} stand for the database's; repeatable")
	c.Flags().DurationVar(&f.timeout, "timeout", 0, "stop the command after this time, such as 10m, and exit "+
		"with 124")
	c.Flags().DurationVar(&f.wait, "wait", 10*time.Minute, "with --shared, how long to wait for another run")
	c.Flags().BoolVar(&f.sweep, "sweep", false, "run no command; remove what killed runs left behind")
	c.Flags().BoolVar(&f.sweepKept, "kept", false, "with --sweep: also remove databases that were kept after "+
		"failures")
	c.Flags().BoolVar(&f.cache, "cached", false, "with --sweep: also remove cached databases")
	a.allowFlag(c)
	a.loginsFlag(c)
	a.clockFlag(c)
	a.variantFlag(c)
	a.awkwardFlag(c)
	return c
}

// check refuses flags that cannot be combined.
func (f *duringFlags) check() error {
	for _, x := range []struct {
		bad  bool
		text string
	}{
		{f.private && f.shared, "--private and --shared cannot be combined"},
		{f.shared && (len(f.scripts) > 0 || f.prepare != "" || f.keep || f.noCache), "--shared takes the " +
			"database as it is, so it cannot be combined with --schema, --prepare, --keep-on-failure or " +
			"--no-cache"},
		{len(f.from) > 0 && f.prepare == "", "--prepare-from says what --prepare reads: name that command with " +
			"--prepare"},
		{(f.sweepKept || f.cache) && !f.sweep, "--kept and --cached need --sweep"},
		{f.timeout < 0, "--timeout must be a duration, such as 10m"},
		{f.wait < 0, "--wait must be a duration, such as 2m"},
	} {
		if x.bad {
			return diag.Usagef("%s", x.text)
		}
	}
	for _, e := range f.env {
		if name, _, ok := strings.Cut(e, "="); !ok || name == "" {
			return diag.Usagef("--env must be NAME=TEXT, such as APP_DB={url}, got %q", e)
		}
	}
	return nil
}

// variables are those of the command's environment.
func (a *program) variables(url string, f *duringFlags) []store.Variable {
	list := store.Variables(a.ws.Drivers, url)
	of := map[string]string{}
	for _, v := range list {
		of[v.Name] = v.Value
	}
	texts := strings.NewReplacer(
		"{url}",
		of["DATABASE_URL"],
		"{host}",
		of["DB_HOST"],
		"{port}",
		of["DB_PORT"],
		"{user}",
		of["DB_USER"],
		"{password}",
		of["DB_PASSWORD"],
		"{name}",
		of["DB_NAME"],
	)
	for _, e := range f.env {
		name, text, _ := strings.Cut(e, "=")
		list = append(list, store.Variable{Name: name, Value: texts.Replace(text)})
	}
	return list
}

// commandEnded is the exit code of the user's command, which is this program's.
type commandEnded struct{ code int }

func (e commandEnded) Error() string { return fmt.Sprintf("the command ended with code %d", e.code) }

// ran runs the command and returns its exit code as an error, unless it is 0.
func (a *program) ran(ctx context.Context, c *during.Command) error {
	code, err := c.Run(ctx)
	if err != nil {
		fmt.Fprintf(a.err, "%s %s cannot be run: %v\n", a.errPage.Alarm("error:"), c.Args[0], err)
	}
	if code == during.CodeTimeout && err == nil && c.Timeout > 0 {
		fmt.Fprintf(
			a.err,
			"%s the command was ended after %s, as --timeout says\n",
			a.errPage.Alarm("error:"),
			c.Timeout,
		)
	}
	if code != 0 {
		return commandEnded{code}
	}
	return nil
}

// say tells something on standard error, unless it is to be quiet.
func (a *program) say(format string, args ...any) {
	if !a.quiet {
		fmt.Fprintf(a.err, "note: "+format+"\n", args...)
	}
}

// dryRun says at the head of a dry run that nothing will stay.
func (a *program) dryRun(on bool) {
	if on {
		a.say("this is a dry run: everything is rolled back at the end")
	}
}

// given finds the URL, and the plan that may name it.
func (a *program) given(args []string) (*plan.Plan, string, error) {
	p, err := a.ws.ReadPlan(args)
	if err != nil {
		return nil, "", err
	}
	path := app.DefaultPlan
	if len(args) > 0 {
		path = args[0]
	}
	u := a.ws.URL(p, path)
	if u == "" {
		return nil, "", app.ErrNoDatabase
	}
	if err := a.ws.Guard(u); err != nil {
		return nil, "", err
	}
	return p, u, a.ws.GuardLogins(p, u)
}

// fill loads entities and runs units, and returns the numbers of the loads.
func (a *program) fill(
	ctx context.Context,
	c *plan.Compiled,
	s store.Store,
	o load.Options,
) (loads []int64, err error) {
	rejected := int64(0)
	o.Again, o.Later = a.ws.Again, len(c.Units) > 0
	o.Rejected = func(load.Rejection) error { rejected++; return nil }
	if len(c.Targets) > 0 {
		stop := a.progress(&o, inOrder(c), "rows")
		r, err := load.Run(ctx, c, s, o)
		stop()
		o.Progress = nil
		var partial *load.Partial
		switch {
		case errors.As(err, &partial) && partial.Load > 0:
			return []int64{partial.Load}, err
		case err != nil:
			return nil, err
		case r.Load > 0:
			loads = append(loads, r.Load)
		}
	}
	for i, u := range c.Units {
		o.Later = i < len(c.Units)-1
		r, err := unit.Run(ctx, c, u, s, o)
		var partial *unit.Partial
		switch {
		case errors.As(err, &partial) && partial.Load > 0:
			return append(loads, partial.Load), err
		case err != nil:
			return loads, err
		case r.Load > 0 && r.Done > 0:
			loads = append(loads, r.Load)
		}
	}
	if rejected > 0 {
		a.say("%s left out, as on_violation in the plan allows", diag.Count(rejected, "row was", "rows were"))
	}
	if len(c.Units) == 0 {
		return loads, nil
	}
	return loads, load.CheckAlways(ctx, s, c.Always)
}
