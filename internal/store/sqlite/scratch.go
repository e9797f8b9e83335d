package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"zombiezen.com/go/sqlite"

	"evensprout/internal/safe"
	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// own keeps databases as files in a folder of the user's. Beside each is a file with its
// mark, and one that is locked.
type own struct {
	folder string
	given  string // the path of the URL's file
	held   map[string]*os.File
}

// OpenScratch needs no database to be there. The folder must be this user's alone.
func (d Driver) OpenScratch(_ context.Context, u string) (store.Scratch, error) {
	path, _, err := parseURL(u)
	if err != nil {
		return nil, err
	}
	folder, err := os.UserCacheDir()
	if err == nil {
		folder = filepath.Join(folder, "evensprout")
		err = safe.Folder(folder)
		if _, there := os.Lstat(folder); err != nil && there == nil {
			return nil, &store.Fault{
				Kind:    store.Refused,
				Message: "the folder for run databases is not used: " + err.Error(),
				Hint:    "choose another folder with XDG_CACHE_HOME",
			}
		}
	}
	if err != nil { // no home, or one that cannot be written to
		folder = filepath.Join(os.TempDir(), fmt.Sprintf("evensprout-%d", os.Getuid()))
		if err = safe.Folder(folder); err != nil {
			return nil, &store.Fault{
				Kind:    store.Refused,
				Message: "the folder for run databases is not used: " + err.Error(),
				Hint:    "choose another folder with XDG_CACHE_HOME or TMPDIR",
			}
		}
	}
	return &own{folder: folder, given: path, held: map[string]*os.File{}}, nil
}

func (o *own) path(name string) string { return filepath.Join(o.folder, name+".db") }

// URL has four slashes, so that those who take the first three for the beginning read the
// same path.
func (o *own) URL(name string) (string, error) { return "sqlite:///" + o.path(name), nil }

// Open opens the file, once it is known to be one of these.
func (o *own) Open(ctx context.Context, name string) (store.Store, error) {
	if err := o.isOwn(name); err != nil {
		return nil, err
	}
	return Driver{}.Open(ctx, "sqlite:"+o.path(name))
}

// isOwn looks whether a file is this user's own, has no second name, is not the given one,
// and carries the mark.
func (o *own) isOwn(name string) error {
	if filepath.Base(name) != name {
		return store.NotScratch(name, "it is not a name")
	}
	f, err := safe.OpenUnlinked(o.path(name))
	if err != nil {
		return store.NotScratch(name, err.Error())
	}
	defer f.Close()
	if err := safe.Owned(f); err != nil {
		return store.NotScratch(name, err.Error())
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if given, err := os.Stat(o.given); err == nil && os.SameFile(given, info) {
		return store.NotScratch(name, "it is the file of the database URL")
	}
	word, err := o.mark(name)
	if err == nil && word == "" {
		err = store.NotScratch(name, "this program did not create it")
	}
	return err
}

// mark is the word of a mark; empty if there is none.
func (o *own) mark(name string) (string, error) {
	path := o.path(name) + ".mark"
	if info, err := os.Lstat(path); errors.Is(err, os.ErrNotExist) || err == nil && !info.Mode().IsRegular() {
		return "", nil
	}
	const most = 100
	text, err := safe.ReadFile(path, most)
	if err != nil {
		return "", err
	}
	word, ok := strings.CutPrefix(string(text), markWord)
	if !ok {
		return "", nil
	}
	return word, nil
}

// markWord begins the contents of every mark.
const markWord = "evensprout: "

// Create makes the mark first: a file without one is never touched again.
func (o *own) Create(ctx context.Context, name string) error {
	if err := o.fresh(ctx, name); err != nil {
		return err
	}
	return Create(o.path(name), "")
}

// fresh removes what is left of a name, and marks it.
func (o *own) fresh(ctx context.Context, name string) error {
	if err := o.Drop(ctx, name); err != nil {
		return err
	}
	return o.writeMark(name, store.MarkMade)
}

func (o *own) writeMark(name, word string) error {
	path := o.path(name) + ".mark"
	f, err := safe.Create(path+".new", 0o600)
	if errors.Is(err, os.ErrExist) { // a killed run's
		if err = os.Remove(path + ".new"); err == nil {
			f, err = safe.Create(path+".new", 0o600)
		}
	}
	if err != nil {
		return err
	}
	_, err = io.WriteString(f, markWord+word)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// Copy copies the file, which nobody has open.
func (o *own) Copy(ctx context.Context, from, name string) error {
	if err := o.isOwn(from); err != nil {
		return err
	}
	if err := o.fresh(ctx, name); err != nil {
		return err
	}
	in, err := os.Open(o.path(from))
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := safe.Create(o.path(name), 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// CopyGiven lets the engine copy the file: others may have it open. It has no tables whose
// rows are kept elsewhere.
func (o *own) CopyGiven(ctx context.Context, name string, _ bool) error {
	s, err := Driver{}.Open(ctx, "sqlite:"+o.given+"?mode=ro")
	if err != nil {
		return err
	}
	d := s.(*database)
	if err := o.fresh(ctx, name); err != nil {
		return errors.Join(err, d.Close())
	}

	// The file must be there first: the engine would make one that others can read.
	err = Create(o.path(name), "")
	if err == nil {
		err = fault(o.given, d.exec("VACUUM INTO "+string(store.AppendQuoted(nil, o.path(name)))))
	}
	if err = errors.Join(err, d.Close()); err != nil {
		return err
	}
	var drop strings.Builder
	for _, t := range []string{"occasions", "contents", "chunks", "loads"} {
		fmt.Fprintf(&drop, "DROP TABLE IF EXISTS evensprout_%s;\n", t)
	}
	return o.Run(ctx, name, drop.String())
}

func (o *own) Empty(ctx context.Context, name string, tables []*schema.Table) error {
	var b strings.Builder
	b.WriteString("PRAGMA foreign_keys = OFF; BEGIN;\n")
	for _, t := range tables {
		fmt.Fprintf(&b, "DELETE FROM %s;\n", quote(t.LocalName()))
	}
	b.WriteString("COMMIT;\n")
	return o.Run(ctx, name, b.String())
}

func (o *own) Run(ctx context.Context, name, script string) error {
	if err := o.isOwn(name); err != nil {
		return err
	}
	conn, err := sqlite.OpenConn(o.path(name), sqlite.OpenReadWrite)
	if err != nil {
		return fault(o.path(name), err)
	}
	defer conn.Close()
	conn.SetInterrupt(ctx.Done())
	if err := conn.SetAuthorizer(sqlite.AuthorizeFunc(staysInside)); err != nil {
		return err
	}
	return run(conn, strings.TrimPrefix(script, "\ufeff"))
}

// staysInside refuses what leads a script out of its database: other files, and functions that load code.
func staysInside(a sqlite.Action) sqlite.AuthResult {
	switch {
	case a.Type() == sqlite.OpAttach && a.File() != "" && a.File() != ":memory:":
		return sqlite.AuthResultDeny
	case a.Type() == sqlite.OpPragma && (strings.EqualFold(a.Pragma(), "temp_store_directory") || strings.EqualFold(a.Pragma(), "data_store_directory")):
		return sqlite.AuthResultDeny
	case a.Type() == sqlite.OpCreateVTable && !strings.HasPrefix(strings.ToLower(a.Module()), "fts") && !strings.HasPrefix(strings.ToLower(a.Module()), "rtree"):
		return sqlite.AuthResultDeny
	}
	return sqlite.AuthResultOK
}

// run runs the statements of a script. An error is a *store.ScriptError.
func run(conn *sqlite.Conn, script string) error {
	for rest := script; !store.OnlyComments(rest); {
		told := func(err error) error {
			text := err.Error()
			return &store.ScriptError{
				Line:    1 + strings.Count(script[:len(script)-len(strings.TrimLeft(rest, " \t\r\n"))], "\n"),
				Message: strings.TrimSpace(text[strings.Index(text, ":")+1:]),
			}
		}
		stmt, trailing, err := conn.PrepareTransient(rest)
		if err != nil {
			return told(err)
		}
		if stmt != nil {
			more := true
			for more && err == nil {
				more, err = stmt.Step()
			}
			if stmt.Finalize(); err != nil {
				return told(err)
			}
		}
		rest = rest[len(rest)-trailing:]
	}
	return nil
}

func (o *own) Mark(_ context.Context, name, word string) error {
	if err := o.isOwn(name); err != nil {
		return err
	}
	return o.writeMark(name, word)
}

func (o *own) List(context.Context) ([]store.ScratchDatabase, error) {
	entries, err := os.ReadDir(o.folder)
	if err != nil {
		return nil, err
	}
	var out []store.ScratchDatabase
	for _, e := range entries {
		name, ok := strings.CutSuffix(e.Name(), ".db")
		if !ok || !strings.HasPrefix(name, store.OwnPrefix) {
			continue
		}
		word := ""
		if o.isOwn(name) == nil {
			if word, err = o.mark(name); err != nil {
				return nil, err
			}
		}
		out = append(out, store.ScratchDatabase{Name: name, Mark: word})
	}
	return out, nil
}

// Sessions is 0: files do not tell who has them open.
func (o *own) Sessions(context.Context, string) (int64, error) { return 0, nil }

// Drop removes a file with its mark. What carries no mark is left.
func (o *own) Drop(_ context.Context, name string) error {
	if filepath.Base(name) != name {
		return store.NotScratch(name, "it is not a name")
	}
	if _, err := os.Lstat(o.path(name)); err == nil {
		if err := o.isOwn(name); err != nil {
			return err
		}
	}
	for _, behind := range []string{"-journal", "-wal", "-shm", "", ".mark"} { // the mark last
		if err := os.Remove(o.path(name) + behind); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Hold locks a file. Its former holder may have removed it in the meantime: then it is no lock.
func (o *own) Hold(_ context.Context, name string) (bool, error) {
	if filepath.Base(name) != name {
		return false, store.NotScratch(name, "it is not a name")
	}
	f, err := safe.OpenOwn(filepath.Join(o.folder, name+".lock"), 0o600)
	if err != nil {
		return false, err
	}
	if !tryLock(f) {
		return false, f.Close()
	}
	now, err := os.Lstat(f.Name())
	ours, failed := f.Stat()
	if err != nil || failed != nil || !os.SameFile(now, ours) {
		return false, f.Close()
	}
	o.held[name] = f
	return true, nil
}

func (o *own) Release(_ context.Context, name string) error {
	f := o.held[name]
	if f == nil {
		return nil
	}
	delete(o.held, name)
	return errors.Join(os.Remove(f.Name()), f.Close())
}

func (o *own) Close() error {
	var errs []error
	for name := range o.held {
		errs = append(errs, o.Release(context.Background(), name))
	}
	return errors.Join(errs...)
}

// Variables name the file.
func (Driver) Variables(u string) []store.Variable {
	path, _, err := parseURL(u)
	if err != nil {
		return nil
	}
	if abs, err := filepath.Abs(path); err == nil {
		path = abs
	}
	list := store.Address{URL: "sqlite:///" + path, Name: path}.Variables()
	return append(
		list,
		store.Variable{Name: "DATABASE_FILE", Value: path},
		store.Variable{Name: "JDBC_URL", Value: "jdbc:sqlite:" + path},
	)
}
