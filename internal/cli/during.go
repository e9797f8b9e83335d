package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"evensprout/internal/during"
	"evensprout/internal/files"
	"evensprout/internal/grow"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/report"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

type duringFlags struct {
	private, shared, keep   bool
	scripts, from, env      []string
	prepare                 string
	noCache                 bool
	timeout, wait           time.Duration
	sweep, sweepKept, cache bool
}

func (a *app) during() *cobra.Command {
	var f duringFlags
	c := &cobra.Command{
		Use:   "during [PLAN] -- COMMAND [ARGS...]",
		Short: "Load, run a command such as your tests, then take everything away",
		Long: `during loads the plan, runs a command with the database in its environment, and takes
everything away again when the command ends, however it ends. Its signals, output and
exit code are the command's.

By default the command gets a database of its own, made for it and dropped afterwards,
so that any number of runs go on at the same time: on the server of the database URL,
or, for SQLite, as a file. Its tables come from --schema, a script of SQL, or from
--prepare, your own migration command, which is run with the new database in its
environment; without either the database of the URL is copied, and its planned tables
emptied. A database that was filled once is kept and copied from then on, as long as
plan, files and schema are the same: --prepare-from names the files that your migration
command reads.

--shared loads into the database of the URL itself, and withdraws afterwards; runs wait
for each other. --keep-on-failure leaves the database if the command fails, and says how
to connect. Databases that a killed run has left are removed by --sweep.

The command finds the database in DATABASE_URL; in DB_HOST, DB_PORT, DB_USER, DB_PASSWORD
and DB_NAME; in what the engine's own clients read (PGHOST..., MYSQL_HOST...); as
JDBC_DATABASE_URL, DATABASE_DSN (Go, MariaDB) and DATABASE_FILE (SQLite). --env gives it
other names: --env APP_DB={url}, with {host}, {port}, {user}, {password} and {name}.

Exit codes: those of the command; 124 after --timeout; where it was not run, those of
load.`,
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
				return errors.New("the command that is to be run stands behind two hyphens, as in: evensprout during -- npm test")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			a.writes, a.withUnits = true, true
			if f.sweep {
				return a.swept(cmd.Context(), args, &f)
			}
			at := cmd.ArgsLenAtDash()
			run := &during.Command{Args: args[at:], Timeout: f.timeout, In: a.in, Out: a.out, Err: a.err}
			if in, ok := a.in.(*os.File); ok && term.IsTerminal(int(in.Fd())) {
				run.Interactive = true
			}
			if f.shared {
				return a.duringShared(cmd.Context(), args[:at], run, &f)
			}
			return a.duringPrivate(cmd.Context(), args[:at], run, &f)
		},
	}
	c.Flags().BoolVar(&f.private, "private", false, "a database of the command's own: the default")
	c.Flags().BoolVar(&f.shared, "shared", false, "load into the database of the URL, and withdraw afterwards")
	c.Flags().BoolVar(&f.keep, "keep-on-failure", false, "leave the database if the command fails, and say how to connect")
	c.Flags().StringArrayVar(&f.scripts, "schema", nil, "script of SQL that makes the tables; may be said several times")
	c.Flags().StringVar(&f.prepare, "prepare", "", "command that makes the tables, run by the shell with the database in its environment")
	c.Flags().StringArrayVar(&f.from, "prepare-from", nil, "file or folder that --prepare reads: as long as it is the same, a filled database is copied; may be said several times")
	c.Flags().BoolVar(&f.noCache, "no-cache", false, "fill the database anew, and keep no copy")
	c.Flags().StringArrayVar(&f.env, "env", nil, "NAME=TEXT: a variable for the command, in which {url}, {host}, {port}, {user}, {password} and {name} are the database's")
	c.Flags().DurationVar(&f.timeout, "timeout", 0, "end the command after so long, such as 10m, and exit with 124")
	c.Flags().DurationVar(&f.wait, "wait", 10*time.Minute, "with --shared, how long to wait for another run")
	c.Flags().BoolVar(&f.sweep, "sweep", false, "run nothing, and remove what killed runs have left")
	c.Flags().BoolVar(&f.sweepKept, "kept", false, "with --sweep: also databases that were kept after failures")
	c.Flags().BoolVar(&f.cache, "cached", false, "with --sweep: also databases that are there to be copied")
	c.Flags().StringArrayVar(&a.allowed, "allow-host", nil, "host, other than this machine, that may be written to")
	c.Flags().BoolVar(&a.quiet, "quiet", false, "say nothing unless something is wrong")
	a.clockFlag(c)
	return c
}

func (f *duringFlags) check() error {
	for _, x := range []struct {
		bad  bool
		text string
	}{
		{f.private && f.shared, "--private and --shared are two things: which is meant?"},
		{f.shared && (len(f.scripts) > 0 || f.prepare != "" || f.keep || f.noCache), "--shared takes the database as it is, so it goes with none of --schema, --prepare, --keep-on-failure and --no-cache"},
		{len(f.from) > 0 && f.prepare == "", "--prepare-from says what --prepare reads: which command is meant?"},
		{(f.sweepKept || f.cache) && !f.sweep, "--kept and --cached belong to --sweep"},
		{f.timeout < 0, "--timeout is a time from now, such as 10m"},
		{f.wait < 0, "--wait is a time from now, such as 2m"},
	} {
		if x.bad {
			return usageError{errors.New(x.text)}
		}
	}
	for _, e := range f.env {
		if name, _, ok := strings.Cut(e, "="); !ok || name == "" {
			return usageError{fmt.Errorf("--env is NAME=TEXT, such as APP_DB={url}, and here is %q", e)}
		}
	}
	return nil
}

// variables are those of the command's environment.
func (a *app) variables(url string, f *duringFlags) []store.Variable {
	list := store.Variables(a.drivers, url)
	of := map[string]string{}
	for _, v := range list {
		of[v.Name] = v.Value
	}
	texts := strings.NewReplacer("{url}", of["DATABASE_URL"], "{host}", of["DB_HOST"], "{port}", of["DB_PORT"], "{user}", of["DB_USER"], "{password}", of["DB_PASSWORD"], "{name}", of["DB_NAME"])
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
func (a *app) ran(ctx context.Context, c *during.Command) error {
	code, err := c.Run(ctx)
	if err != nil {
		fmt.Fprintf(a.err, "%s %s cannot be run: %v\n", a.errPage.Alarm("error:"), c.Args[0], err)
	}
	if code == during.CodeTimeout && err == nil && c.Timeout > 0 {
		fmt.Fprintf(a.err, "%s the command was ended after %s, as --timeout says\n", a.errPage.Alarm("error:"), c.Timeout)
	}
	if code != 0 {
		return commandEnded{code}
	}
	return nil
}

// say tells something on standard error, unless it is to be quiet.
func (a *app) say(format string, args ...any) {
	if !a.quiet {
		fmt.Fprintf(a.err, "note: "+format+"\n", args...)
	}
}

// given finds the URL, and the plan that may name it.
func (a *app) given(args []string) (*plan.Plan, string, error) {
	p, err := a.readPlan(args)
	if err != nil {
		return nil, "", err
	}
	path := defaultPlan
	if len(args) > 0 {
		path = args[0]
	}
	u := a.url(p, path)
	if u == "" {
		return nil, "", errNoDatabase
	}
	return p, u, a.guard(u)
}

func (a *app) duringPrivate(ctx context.Context, args []string, run *during.Command, f *duringFlags) (err error) {
	p, u, err := a.given(args)
	if err != nil {
		return err
	}
	m := &maker{app: a, args: args, url: u, flags: f}
	key, err := m.key(ctx, p)
	if err != nil {
		return err
	}
	if m.own, err = store.OpenOwn(ctx, a.drivers, u); err != nil {
		return err
	}
	defer m.own.Close()
	place, err := during.Private(ctx, m.own, key, m.build)
	if err != nil {
		return err
	}
	keep := false
	defer func() {
		if keep {
			return
		}
		again := func(ctx context.Context) (store.Own, error) { return store.OpenOwn(ctx, a.drivers, u) }
		if gone := place.Drop(context.WithoutCancel(ctx), again); gone != nil {
			err = errors.Join(err, fmt.Errorf("the database of the run is still there, and evensprout during --sweep removes it: %w", gone))
		}
	}()
	how := "made in " + brief(place.Made)
	if place.Copied {
		how = fmt.Sprintf("copied in %s, of this %s by the engine", brief(place.Made), brief(place.Copy))
	}
	a.say("%s in %s, %s", p.Name, a.shown(place.URL()), how)
	run.Variables = a.variables(place.URL(), f)
	if err = ctx.Err(); err == nil {
		err = a.ran(ctx, run)
	}
	if err != nil && f.keep {
		keep = true
		if kept := place.Keep(context.WithoutCancel(ctx)); kept != nil {
			return errors.Join(err, kept)
		}
		fmt.Fprintf(a.err, "The database is kept: evensprout look --db '%s'\nevensprout during --sweep --kept removes it.\n", a.shown(place.URL()))
	}
	return err
}

func brief(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// maker makes databases for runs.
type maker struct {
	*app
	args  []string
	url   string
	flags *duringFlags
	own   store.Own
}

// maxCopied bounds the rows of unplanned tables that are looked at to know whether a
// database is still the same.
const maxCopied = 20_000

// cacheForm numbers what goes into keys of the cache.
const cacheForm = "1"

// key names what the database is made from; empty if that cannot be known, or need not.
func (m *maker) key(ctx context.Context, p *plan.Plan) (string, error) {
	f := m.flags
	if f.noCache || f.prepare != "" && len(f.from) == 0 {
		return "", nil
	}
	d := during.NewDigest(cacheForm)
	d.Add("program", []byte(version()))
	d.Add("plan", p.Source())
	d.Add("clock", []byte(m.clock))
	missing := func(flag string, err error) error {
		return usageError{fmt.Errorf("%s: %w", flag, err)}
	}
	for _, path := range p.Files() {
		if err := d.AddFile("rows", path); err != nil {
			return "", nil // the plan will tell
		}
	}
	for _, path := range f.scripts {
		if err := d.AddFile("schema", path); err != nil {
			return "", missing("--schema", err)
		}
	}
	d.Add("prepare", []byte(f.prepare))
	for _, path := range f.from {
		if err := d.AddFile("from", path); err != nil {
			return "", missing("--prepare-from", err)
		}
	}
	if len(f.scripts) == 0 && f.prepare == "" {
		same, err := m.addGiven(ctx, d, p)
		if err != nil || !same {
			return "", err
		}
	}
	return d.Key(), nil
}

// addGiven adds what is copied of the database of the URL: its tables, and the rows of
// those that are not planned. It tells whether these are few enough to be looked at.
func (m *maker) addGiven(ctx context.Context, d *during.Digest, p *plan.Plan) (bool, error) {
	s, err := store.Open(ctx, m.drivers, m.url)
	if err != nil {
		return false, m.schemaless(err)
	}
	defer s.Close()
	db, err := s.Survey(ctx)
	if err != nil {
		return false, err
	}
	if err := d.AddSchema(db); err != nil {
		return false, err
	}
	emptied := during.Emptied(db, planned(p, db))
	d.Add("database", []byte(m.shown(m.url)))
	for left, i := int64(maxCopied), 0; i < len(db.Tables); i++ {
		t := db.Tables[i]
		if slices.Contains(emptied, t) {
			continue
		}
		n, err := s.Count(ctx, t)
		if err != nil {
			return false, err
		}
		if left -= n; left < 0 {
			m.say("the database has more than %s rows in tables that are not planned, so it is copied anew each time", report.Number(int64(maxCopied)))
			return false, nil
		}
		var b []byte
		err = s.Select(ctx, store.Query{Table: t, Columns: t.Columns}, func(row []grow.Value) error {
			for j := range row {
				b = row[j].AppendCanonical(b)
			}
			return nil
		})
		if err != nil {
			return false, err
		}
		d.Add(t.Name, b)
	}
	return true, nil
}

// planned are the tables into which a plan inserts rows.
func planned(p *plan.Plan, db *schema.Database) []*schema.Table {
	var out []*schema.Table
	for _, t := range p.Outline(db) {
		if t.Table != nil && !t.Plan.Existing && (t.Plan.Write == nil || t.Plan.Write.Mode == plan.Insert) {
			out = append(out, t.Table)
		}
	}
	return out
}

// schemaless says what to do where there is no database to copy.
func (m *maker) schemaless(err error) error {
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Missing {
		return &store.Fault{Kind: store.Missing, Err: fault.Err, Message: fault.Message + ", so there are no tables to copy",
			Hint: "--schema schema.sql, or --prepare 'your migration command', makes them in a fresh database"}
	}
	return err
}

// build makes a database with the schema, and loads the plan into it.
func (m *maker) build(ctx context.Context, name string) error {
	f := m.flags
	if len(f.scripts) == 0 && f.prepare == "" {
		if err := m.own.CopyGiven(context.WithoutCancel(ctx), name); err != nil {
			return m.schemaless(err)
		}
	} else if err := m.own.Create(ctx, name); err != nil {
		return err
	}
	for _, path := range f.scripts {
		text, err := os.ReadFile(path)
		if err != nil {
			return usageError{fmt.Errorf("--schema: %w", err)}
		}
		if err := m.own.Run(ctx, name, string(text)); err != nil {
			var refused *store.ScriptError
			if errors.As(err, &refused) {
				refused.File = path
			}
			return err
		}
	}
	if f.prepare != "" {
		if err := m.prepared(ctx, m.own.URL(name)); err != nil {
			return err
		}
	}
	if len(f.scripts) == 0 && f.prepare == "" {
		if err := m.emptied(ctx, name); err != nil {
			return err
		}
	}
	u := m.own.URL(name)
	if err := m.hasTables(ctx, u); err != nil {
		return err
	}
	return m.filled(ctx, u)
}

// prepared runs the command that makes the tables.
func (m *maker) prepared(ctx context.Context, url string) error {
	c := &during.Command{Args: []string{"/bin/sh", "-c", m.flags.prepare}, Variables: m.variables(url, m.flags), Out: m.err, Err: m.err}
	code, err := c.Run(ctx)
	if err == nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err == nil && code != 0 {
		err = &store.Fault{Kind: store.Missing, Message: fmt.Sprintf("--prepare: the command %q ended with code %d, so nothing was loaded", m.flags.prepare, code), Hint: "what it said stands above"}
	}
	return err
}

// emptied takes the rows out of planned tables of a copy, and what refers to them.
func (m *maker) emptied(ctx context.Context, name string) error {
	p, err := m.readPlan(m.args)
	if err != nil {
		return err
	}
	s, err := store.Open(ctx, m.drivers, m.own.URL(name))
	if err != nil {
		return err
	}
	defer s.Close()
	db, err := s.Survey(ctx)
	if err != nil {
		return err
	}
	rows := false
	tables := during.Emptied(db, planned(p, db))
	for _, t := range tables {
		n, err := s.Count(ctx, t)
		if err != nil {
			return err
		}
		rows = rows || n > 0
	}
	if err := s.Close(); err != nil || !rows {
		return err
	}
	return m.own.Empty(ctx, name, tables)
}

// hasTables stops before a load where there is nothing to load into.
func (m *maker) hasTables(ctx context.Context, url string) error {
	s, err := store.Open(ctx, m.drivers, url)
	if err != nil {
		return err
	}
	defer s.Close()
	db, err := s.Survey(ctx)
	if err != nil || len(db.Tables) > 0 {
		return err
	}
	what := "the database of the URL has no tables"
	switch {
	case m.flags.prepare != "":
		what = "the command of --prepare has made no tables in the database of DATABASE_URL"
	case len(m.flags.scripts) > 0:
		what = "the scripts of --schema make no tables"
	}
	return &store.Fault{Kind: store.Missing, Message: what + ", so nothing was loaded", Hint: "--schema schema.sql makes them, or --prepare 'your migration command', which finds the fresh database in DATABASE_URL"}
}

// filled loads the plan, and runs its units, without a journal: nobody takes it back.
func (m *maker) filled(ctx context.Context, url string) error {
	given := m.db
	m.db = url
	defer func() { m.db = given }()
	c, s, _, err := m.compile(ctx, m.args, true)
	if err != nil {
		return err
	}
	defer s.Close()
	defer c.Close()
	if !m.quiet {
		m.warn(c)
	}
	if err := load.TryConditions(ctx, s, c); err != nil {
		return err
	}
	o := load.Options{Jobs: jobsDefault(), Folder: c.Plan.Folder()}
	if makesFiles(c) {
		if o.Folder, err = os.MkdirTemp("", "evensprout-"); err != nil {
			return err
		}
		defer os.RemoveAll(o.Folder)
		m.say("the files that fields name are not made for a private database; --shared makes them, and removes them")
	}
	_, err = m.fill(ctx, c, s, o)
	return err
}

// makesFiles tells whether fields of the plan name placeholder files.
func makesFiles(c *plan.Compiled) bool {
	for _, t := range c.Targets {
		for _, f := range t.Grow.Fields {
			if _, ok := f.File(); ok {
				return true
			}
		}
	}
	return false
}

// fill loads entities and runs units, and returns the numbers of the loads.
func (a *app) fill(ctx context.Context, c *plan.Compiled, s store.Store, o load.Options) (loads []int64, err error) {
	rejected := int64(0)
	o.Again, o.Later = a.again, len(c.Units) > 0
	o.Rejected = func(load.Rejection) error { rejected++; return nil }
	if len(c.Targets) > 0 {
		stop := a.progress(&o, "rows")
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
		r, err := load.RunUnit(ctx, c, u, s, o, false)
		var partial *load.UnitPartial
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
		a.say("%s left out, as the plan's on_violation says", report.Count(rejected, "row was", "rows were"))
	}
	if len(c.Units) == 0 {
		return loads, nil
	}
	return loads, load.CheckAlways(ctx, s, c)
}

// duringActor begins the actor of loads that are withdrawn when a command ends.
const duringActor = "during, "

func (a *app) duringShared(ctx context.Context, args []string, run *during.Command, f *duringFlags) (err error) {
	c, s, name, err := a.compile(ctx, args, true)
	if err != nil {
		return err
	}
	defer s.Close()
	defer c.Close()
	if !a.quiet {
		a.warn(c)
	}
	if err := load.TryConditions(ctx, s, c); err != nil {
		return err
	}
	if err := a.alone(ctx, s, c.Plan.Name, f.wait); err != nil {
		return err
	}
	defer s.Unlock(context.WithoutCancel(ctx), duringLock(c.Plan.Name))
	if _, err := a.takenBack(ctx, s, c.Plan.Name); err != nil { // what a killed run has left
		return err
	}
	journal := a.journal("", false)
	journal.Actor, journal.Wait = duringActor+journal.Actor, f.wait
	loads, err := a.fill(ctx, c, s, load.Options{Jobs: jobsDefault(), Journal: journal, Folder: c.Plan.Folder()})
	defer func() {
		// The command may have taken as long as it liked: servers end idle connections.
		if again, gone := a.withdrawn(context.WithoutCancel(ctx), loads); gone != nil {
			err = errors.Join(err, fmt.Errorf("what was loaded is still there (load %v), and evensprout during --sweep takes it back: %w", again, gone))
		}
	}()
	if err != nil {
		return err
	}
	if len(loads) == 0 {
		a.say("%s was loaded before, and stays", c.Plan.Name)
	} else {
		a.say("%s in %s, as load %s", c.Plan.Name, name, numbers(loads))
	}
	run.Variables = a.variables(a.opened, f)
	if err := ctx.Err(); err != nil {
		return context.Cause(ctx)
	}
	return a.ran(ctx, run)
}

func numbers(list []int64) string {
	var out []string
	for _, n := range list {
		out = append(out, fmt.Sprint(n))
	}
	return strings.Join(out, ", ")
}

func duringLock(name string) string { return "during " + name }

// alone waits until no other run works with the plan's rows.
func (a *app) alone(ctx context.Context, s store.Store, name string, wait time.Duration) error {
	const every = 100 * time.Millisecond
	deadline := time.Now().Add(wait)
	told := false
	for {
		holder, err := s.Lock(ctx, duringLock(name))
		if err != nil || holder == "" {
			return err
		}
		if time.Now().After(deadline) {
			return &store.Fault{Kind: store.Locked, Message: fmt.Sprintf("another run works with the rows of %s (%s; waited %s)", name, holder, brief(wait)), Hint: "--wait says how long to wait for it; without --shared, each run has a database of its own"}
		}
		if !told {
			a.say("waiting for another run that works with the rows of %s (%s)", name, holder)
			told = true
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(every):
		}
	}
}

// withdrawn takes loads back, the last first, through a connection of its own. It returns
// those that are still there.
func (a *app) withdrawn(ctx context.Context, loads []int64) ([]int64, error) {
	if len(loads) == 0 {
		return nil, nil
	}
	s, err := a.again(ctx)
	if err != nil {
		return loads, err
	}
	defer s.Close()
	// What the command has changed, and what it has added below the rows, goes as well.
	o := load.WithdrawOptions{Changed: true, Referring: true, Rows: files.Rows, Again: a.again, Wait: time.Minute}
	for i, n := range slices.Backward(loads) {
		w, err := load.Withdraw(ctx, s, n, o)
		if err != nil {
			return loads[:i+1], err
		}
		for table, rows := range w.Others {
			a.say("%s of %s referred to rows that went, and went as well", report.Count(rows, "row", "rows"), table)
		}
		if w.Left > 0 {
			a.say("%s of load %d could not be taken back: evensprout withdraw %d says which", report.Count(w.Left, "row", "rows"), n, n)
		}
	}
	return nil, nil
}

// takenBack withdraws what killed runs have left of a plan; of all plans if it has no name.
func (a *app) takenBack(ctx context.Context, s store.Store, name string) ([]during.Swept, error) {
	all, err := load.Entries(ctx, s, name)
	if err != nil {
		return nil, err
	}
	var loads []int64
	var out []during.Swept
	for _, e := range all {
		if strings.HasPrefix(e.Actor, duringActor) && e.State != load.StateWithdrawn {
			loads = append(loads, e.Number)
			out = append(out, during.Swept{Name: fmt.Sprintf("load %d of %s", e.Number, e.Plan), Why: "left by a run that was killed"})
		}
	}
	_, err = a.withdrawn(ctx, loads)
	return out, err
}

// swept removes what killed runs have left.
func (a *app) swept(ctx context.Context, args []string, f *duringFlags) error {
	var p *plan.Plan
	path := ""
	if _, err := os.Stat(defaultPlan); err == nil || len(args) > 0 {
		var err error
		if p, err = a.readPlan(args); err != nil {
			return err
		}
		path = defaultPlan
		if len(args) > 0 {
			path = args[0]
		}
	}
	u := a.url(p, path)
	if u == "" {
		return errNoDatabase
	}
	if err := a.guard(u); err != nil {
		return err
	}
	own, err := store.OpenOwn(ctx, a.drivers, u)
	if err != nil {
		return err
	}
	defer own.Close()
	gone, err := during.Sweep(ctx, own, f.sweepKept, f.cache)
	if err != nil {
		return err
	}
	a.opened = u
	if s, err := store.Open(ctx, a.drivers, u); err == nil { // a private run needs no such database
		defer s.Close()
		list, err := a.sweptLoads(ctx, s)
		if err != nil {
			return err
		}
		gone = append(gone, list...)
	}
	if a.json {
		return a.writeJSON(map[string]any{"removed": gone})
	}
	for _, g := range gone {
		fmt.Fprintf(a.out, "removed %s: %s\n", g.Name, g.Why)
	}
	if len(gone) == 0 {
		fmt.Fprintln(a.out, "There is nothing to remove.")
	}
	return nil
}

// sweptLoads withdraws loads of killed runs, of plans that nobody works with.
func (a *app) sweptLoads(ctx context.Context, s store.Store) ([]during.Swept, error) {
	all, err := load.Entries(ctx, s, "")
	if err != nil {
		return nil, err
	}
	var out []during.Swept
	seen := map[string]bool{}
	for _, e := range all {
		if seen[e.Plan] || !strings.HasPrefix(e.Actor, duringActor) || e.State == load.StateWithdrawn {
			continue
		}
		seen[e.Plan] = true
		holder, err := s.Lock(ctx, duringLock(e.Plan))
		if err != nil {
			return out, err
		}
		if holder != "" {
			continue
		}
		list, err := a.takenBack(ctx, s, e.Plan)
		out = append(out, list...)
		if err := errors.Join(err, s.Unlock(context.WithoutCancel(ctx), duringLock(e.Plan))); err != nil {
			return out, err
		}
	}
	return out, nil
}
