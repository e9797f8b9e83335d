package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"evensprout/internal/diag"
	"evensprout/internal/during"
	"evensprout/internal/load"
	"evensprout/internal/plan"
	"evensprout/internal/safe"
	"evensprout/internal/store"
)

// duringPrivate runs a command beside a database of its own, which is dropped afterwards.
func (a *program) duringPrivate(ctx context.Context, args []string, run *during.Command, f *duringFlags) (err error) {
	p, u, err := a.given(args)
	if err != nil {
		return err
	}
	m := &maker{a: a, args: args, url: u, flags: f}
	if err := m.refuseExternal(ctx, p); err != nil {
		return err
	}
	key, err := m.key(ctx, p)
	if err != nil {
		return err
	}
	if m.own, err = store.OpenScratch(ctx, a.ws.Drivers, u); err != nil {
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
		again := func(ctx context.Context) (store.Scratch, error) { return store.OpenScratch(ctx, a.ws.Drivers, u) }
		if gone := place.Drop(context.WithoutCancel(ctx), again); gone != nil {
			err = errors.Join(
				err,
				fmt.Errorf(
					"the database of the run is still there, and evensprout during --sweep removes it: %w",
					gone,
				),
			)
		}
	}()
	how := "made in " + brief(place.Made)
	if place.Copied {
		how = fmt.Sprintf("copied in %s, of this %s by the engine", brief(place.Made), brief(place.Copy))
	}
	url, err := place.URL()
	if err != nil {
		return err
	}
	a.say("%s in %s, %s", p.Name, a.ws.Shown(url), how)
	run.Variables = a.variables(url, f)
	if err = ctx.Err(); err == nil {
		err = a.ran(ctx, run)
	}
	if err != nil && f.keep {
		keep = true
		if kept := place.Keep(context.WithoutCancel(ctx)); kept != nil {
			return errors.Join(err, kept)
		}
		fmt.Fprintf(
			a.err,
			"The database is kept: evensprout look --db '%s'\nevensprout during --sweep --kept removes it.\n",
			a.ws.Shown(url),
		)
	}
	return err
}

// brief is a time for a message, rounded.
func brief(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// maker makes databases for runs.
type maker struct {
	a     *program
	args  []string
	url   string
	flags *duringFlags
	own   store.Scratch
}

// inScript names the file of a script that an engine refused.
func inScript(path string, err error) error {
	var refused *store.ScriptError
	if errors.As(err, &refused) {
		refused.File = path
	}
	return err
}

// maxScript bounds a script of --schema, in bytes.
const maxScript = 64 << 20

// cacheForm numbers what goes into keys of the cache.
const cacheForm = "1"

// key names what the database is made from; empty if that cannot be known, or need not.
func (m *maker) key(ctx context.Context, p *plan.Plan) (string, error) {
	f := m.flags
	if f.noCache || f.prepare != "" && len(f.from) == 0 {
		return "", nil
	}
	d := during.NewDigest(cacheForm)
	d.Add("program", []byte(build()))
	d.Add("plan", p.Source())
	d.Add("clock", []byte(m.a.ws.Clock))
	missing := func(flag, path string, err error) error {
		return diag.Usagef("%s: %w", flag, unreadable(path, err))
	}
	for _, path := range p.Files() {
		if err := d.AddFile("rows", path); err != nil {
			return "", nil // the plan will tell
		}
	}
	for _, path := range f.scripts {
		if err := d.AddFile("schema", path); err != nil {
			return "", missing("--schema", path, err)
		}
	}
	d.Add("prepare", []byte(f.prepare))
	for _, path := range f.from {
		if err := d.AddFile("from", path); err != nil {
			return "", missing("--prepare-from", path, err)
		}
	}
	if m.copies() {
		d.Add("external", fmt.Appendf(nil, "%t", f.external))
		same, err := m.addGiven(ctx, d, p)
		if err != nil || !same {
			return "", err
		}
	}
	return d.Key(), nil
}

// build tells this program from others: where it has no version, by its file.
func build() string {
	text := version()
	if path, err := os.Executable(); err == nil && strings.Contains(text, development) {
		if info, err := os.Stat(path); err == nil {
			text += fmt.Sprintf(" %d %d", info.Size(), info.ModTime().UnixNano())
		}
	}
	return text
}

// addGiven adds what is copied of the database of the URL: its tables, and the rows of
// those that are not planned. It reports whether these are few enough to be looked at.
func (m *maker) addGiven(ctx context.Context, d *during.Digest, p *plan.Plan) (bool, error) {
	s, err := store.Open(ctx, m.a.ws.Drivers, m.url)
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
	d.Add("database", []byte(m.a.ws.Shown(m.url)))
	same, err := d.AddRows(ctx, s, db, p)
	if err == nil && !same {
		m.a.say(
			"the database has more than %s rows in tables that are not planned, so it is copied anew each time",
			diag.Number(int64(during.MaxRows)),
		)
	}
	return same, err
}

// copies reports whether the tables of the run are those of the database of the URL.
func (m *maker) copies() bool { return len(m.flags.scripts) == 0 && m.flags.prepare == "" }

// refuseExternal stops, before anything is done, where planned tables keep their rows
// elsewhere: to empty them in a copy would empty those.
func (m *maker) refuseExternal(ctx context.Context, p *plan.Plan) error {
	if !m.copies() {
		return nil
	}
	s, err := store.Open(ctx, m.a.ws.Drivers, m.url)
	if err != nil {
		return m.schemaless(err)
	}
	db, err := s.Survey(ctx)
	if err := errors.Join(err, s.Close()); err != nil {
		return err
	}
	var names []string
	for _, t := range during.External(db, p) {
		names = append(names, t.Name+" ("+t.External+")")
	}
	if len(names) == 0 {
		return nil
	}
	return &store.Fault{
		Kind: store.Refused,
		Message: "nothing was done: the copy would have to be emptied, and that would delete rows kept " +
			"elsewhere, in " + strings.Join(
			names,
			", ",
		),
		Hint: "--schema schema.sql, or --prepare 'your migration command', makes tables of its own; or leave these " +
			"tables out of the plan",
	}
}

// schemaless says what to do where there is no database to copy.
func (m *maker) schemaless(err error) error {
	var fault *store.Fault
	if errors.As(err, &fault) && fault.Kind == store.Missing {
		return &store.Fault{
			Kind:    store.Missing,
			Err:     fault.Err,
			Message: fault.Message + ", so there are no tables to copy",
			Hint:    "--schema schema.sql, or --prepare 'your migration command', makes them in a fresh database",
		}
	}
	return err
}

// build makes a database with the schema, and loads the plan into it.
func (m *maker) build(ctx context.Context, name string) error {
	f := m.flags
	if m.copies() {
		if err := m.own.CopyGiven(context.WithoutCancel(ctx), name, f.external); err != nil {
			return m.schemaless(err)
		}
	} else if err := m.own.Create(ctx, name); err != nil {
		return err
	}

	for _, path := range f.scripts {
		text, err := safe.ReadFile(path, maxScript)
		if err != nil {
			return diag.Usagef("--schema: %w", unreadable(path, err))
		}
		if err := inScript(path, m.own.Run(ctx, name, string(text))); err != nil {
			return err
		}
	}

	if f.prepare != "" {
		url, err := m.prepareURL(ctx, name)
		if err != nil {
			return err
		}
		if err := m.prepared(ctx, url); err != nil {
			return err
		}
	}

	if m.copies() {
		if err := m.emptied(ctx, name); err != nil {
			return err
		}
	}
	if err := m.hasTables(ctx, name); err != nil {
		return err
	}
	return m.filled(ctx, name)
}

// prepareURL is the address for the command of --prepare, once a connection to the same
// address was asked where it leads.
func (m *maker) prepareURL(ctx context.Context, name string) (string, error) {
	url, err := m.own.URL(name)
	if err != nil {
		return "", err
	}
	s, err := m.own.Open(ctx, name)
	if err != nil {
		return "", err
	}
	return url, s.Close()
}

// prepared runs the command that makes the tables.
func (m *maker) prepared(ctx context.Context, url string) error {
	c := &during.Command{
		Args:      []string{"/bin/sh", "-c", m.flags.prepare},
		Variables: m.a.variables(url, m.flags),
		Out:       m.a.errFile,
		Err:       m.a.errFile,
	}
	code, err := c.Run(ctx)
	if err == nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err == nil && code != 0 {
		err = &store.Fault{
			Kind: store.Missing,
			Message: fmt.Sprintf(
				"--prepare: the command %q ended with code %d, so nothing was loaded",
				m.flags.prepare,
				code,
			),
			Hint: "its output is above",
		}
	}
	return err
}

// emptied takes the rows out of planned tables of a copy, and what refers to them.
func (m *maker) emptied(ctx context.Context, name string) error {
	p, err := m.a.ws.ReadPlan(m.args)
	if err != nil {
		return err
	}
	s, err := m.own.Open(ctx, name)
	if err != nil {
		return err
	}
	db, err := s.Survey(ctx)
	if err != nil {
		return errors.Join(err, s.Close())
	}
	tables, err := during.Filled(ctx, s, db, p)
	if err := errors.Join(err, s.Close()); err != nil || len(tables) == 0 {
		return err
	}
	return m.own.Empty(ctx, name, tables)
}

// hasTables stops before a load where there is nothing to load into.
func (m *maker) hasTables(ctx context.Context, name string) error {
	s, err := m.own.Open(ctx, name)
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
		what = "the command of --prepare created no tables in the database that DATABASE_URL names"
	case len(m.flags.scripts) > 0:
		what = "the scripts of --schema create no tables"
	}
	return &store.Fault{
		Kind:    store.Missing,
		Message: what + ", so nothing was loaded",
		Hint: "--schema schema.sql makes them, or --prepare 'your migration command', which finds the fresh " +
			"database in DATABASE_URL",
	}
}

// filled loads the plan, and runs its units, without a journal: nobody takes it back.
func (m *maker) filled(ctx context.Context, name string) error {
	url, err := m.own.URL(name)
	if err != nil {
		return err
	}
	given := m.a.ws.DB
	m.a.ws.DB, m.a.ws.Opener = url, func(ctx context.Context) (store.Store, error) { return m.own.Open(ctx, name) }
	defer func() { m.a.ws.DB, m.a.ws.Opener = given, nil }()
	if _, err := m.a.loadBases(ctx, m.args, load.Options{Jobs: jobsDefault()}); err != nil {
		return err
	}
	c, s, _, err := m.a.ws.Compile(ctx, m.args, true)
	if err != nil {
		return err
	}
	defer s.Close()
	defer c.Close()
	if !m.a.quiet {
		m.a.warn(c)
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
		m.a.say("the files that fields name are not made for a private database; --shared makes them, and removes them")
	}

	_, err = m.a.fill(ctx, c, s, o)
	return err
}

// makesFiles reports whether fields of the plan name placeholder files.
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
