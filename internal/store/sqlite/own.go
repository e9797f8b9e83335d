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

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

// own keeps databases as files in a folder of the user's. Of each there may be a file with
// a word about it, and one that is locked.
type own struct {
	folder string
	given  string // the path of the URL's file
	held   map[string]*os.File
}

// Own needs no database to be there.
func (d Driver) Own(_ context.Context, u string) (store.Own, error) {
	path, _, err := parseURL(u)
	if err != nil {
		return nil, err
	}
	folder, err := os.UserCacheDir()
	if err == nil {
		folder = filepath.Join(folder, "evensprout")
		err = os.MkdirAll(folder, 0o700)
	}
	if err != nil { // no home, or one that cannot be written to
		folder = filepath.Join(os.TempDir(), fmt.Sprintf("evensprout-%d", os.Getuid()))
		if err = os.MkdirAll(folder, 0o700); err != nil {
			return nil, err
		}
	}
	return &own{folder: folder, given: path, held: map[string]*os.File{}}, nil
}

func (o *own) path(name string) string { return filepath.Join(o.folder, name+".db") }

// URL has four slashes, so that those who take the first three for the beginning read the
// same path.
func (o *own) URL(name string) string { return "sqlite:///" + o.path(name) }

func (o *own) Create(ctx context.Context, name string) error {
	if err := o.Drop(ctx, name); err != nil {
		return err
	}
	return Create(o.path(name), "")
}

// Copy copies the file, which nobody has open.
func (o *own) Copy(_ context.Context, from, name string) error {
	in, err := os.Open(o.path(from))
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(o.path(name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// CopyGiven lets the engine copy the file: others may have it open.
func (o *own) CopyGiven(ctx context.Context, name string) error {
	s, err := Driver{}.Open(ctx, "sqlite:"+o.given+"?mode=ro")
	if err != nil {
		return err
	}
	d := s.(*database)
	err = errors.Join(fault(o.given, d.exec("VACUUM INTO "+string(store.AppendQuoted(nil, o.path(name))))), d.Close())
	if err != nil {
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
	conn, err := sqlite.OpenConn(o.path(name), sqlite.OpenReadWrite)
	if err != nil {
		return fault(o.path(name), err)
	}
	defer conn.Close()
	conn.SetInterrupt(ctx.Done())
	return run(conn, strings.TrimPrefix(script, "\ufeff"))
}

// run runs the statements of a script. An error is a *store.ScriptError.
func run(conn *sqlite.Conn, script string) error {
	for rest := script; !store.OnlyComments(rest); {
		told := func(err error) error {
			text := err.Error()
			return &store.ScriptError{Line: 1 + strings.Count(script[:len(script)-len(strings.TrimLeft(rest, " \t\r\n"))], "\n"), Message: strings.TrimSpace(text[strings.Index(text, ":")+1:])}
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
	return os.WriteFile(o.path(name)+".mark", []byte(word), 0o600)
}

func (o *own) List(context.Context) ([]store.OwnDatabase, error) {
	found, err := filepath.Glob(o.path(store.OwnPrefix + "*"))
	if err != nil {
		return nil, err
	}
	var out []store.OwnDatabase
	for _, path := range found {
		mark, err := os.ReadFile(path + ".mark")
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
		out = append(out, store.OwnDatabase{Name: strings.TrimSuffix(filepath.Base(path), ".db"), Mark: string(mark)})
	}
	return out, nil
}

func (o *own) Drop(_ context.Context, name string) error {
	for _, behind := range []string{".mark", "-journal", "-wal", "-shm", ""} { // the file itself last
		if err := os.Remove(o.path(name) + behind); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Hold locks a file. Its former holder may have removed it in the meantime: then it is no lock.
func (o *own) Hold(_ context.Context, name string) (bool, error) {
	f, err := os.OpenFile(filepath.Join(o.folder, name+".lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return false, err
	}
	if !tryLock(f) {
		return false, f.Close()
	}
	now, err := os.Stat(f.Name())
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
	list := store.Plain("sqlite:///"+path, "", "", "", "", path)
	return append(list, store.Variable{Name: "DATABASE_FILE", Value: path}, store.Variable{Name: "JDBC_DATABASE_URL", Value: "jdbc:sqlite:" + path})
}
