package store

import (
	"context"
	"strings"

	"evensprout/internal/schema"
)

// OwnPrefix begins the names of all databases that this program makes for itself.
const OwnPrefix = "evensprout_"

// OwnNewPrefix begins the names of those that are being made and have not got their own yet;
// 16 hexadecimal digits follow.
const OwnNewPrefix = OwnPrefix + "new_"

// The words by which a database that this program made is marked.
const (
	MarkMade  = "made"  // being filled, or used by one run
	MarkReady = "ready" // whole, to be copied
	MarkKept  = "kept"  // left for inspection after a failure
)

// Scratch is databases that this program makes for itself, and drops: beside the one that a
// URL names, on its server or, of files, in a folder of the user's. One connection, which
// belongs to one goroutine.
//
// Each is marked from the moment at which it is made. Whatever empties, drops, prepares or
// fills one first asks the server that the current database has that name and carries the
// mark; if not, that is a *Fault of kind Refused, and nothing is done.
type Scratch interface {
	// URL names one of them, for programs that connect by themselves. It is an error if the
	// address cannot be written down so that it leads to that database alone.
	URL(name string) (string, error)
	// Open connects to one of them, once it is known to be one.
	Open(ctx context.Context, name string) (Store, error)
	// Create makes an empty one.
	Create(ctx context.Context, name string) error
	// Copy makes one that is like another of them, by the engine's own means.
	Copy(ctx context.Context, from, name string) error
	// CopyGiven makes one that is like the database of the URL, without this program's
	// journal, and without tables whose rows are kept elsewhere unless external is true.
	CopyGiven(ctx context.Context, name string, external bool) error
	// Empty deletes the rows of some tables, and lets counters begin again. Rows elsewhere
	// that refer to them are the caller's care.
	Empty(ctx context.Context, name string, tables []*schema.Table) error
	// Run runs a script of SQL, as the engine's own client would.
	Run(ctx context.Context, name, script string) error
	// Mark changes the mark of one of them.
	Mark(ctx context.Context, name, word string) error
	// List are the databases whose names begin like theirs. Mark is empty for those that this
	// program did not make for this user.
	List(ctx context.Context) ([]ScratchDatabase, error)
	// Sessions counts the connections to a database, without this one.
	Sessions(ctx context.Context, name string) (int64, error)
	// Drop removes one, whoever is connected to it. Where there is none it does nothing.
	Drop(ctx context.Context, name string) error
	// Hold takes a lock of one's name, until Release or Close, or the end of the process;
	// false if another process has it.
	Hold(ctx context.Context, name string) (bool, error)
	Release(ctx context.Context, name string) error
	Close() error
}

// Transactor is a Scratch of an engine in which tables may have no transactions.
type Transactor interface {
	// MakeTransactional lets the tables of one of its databases have transactions.
	MakeTransactional(ctx context.Context, name string, tables []*schema.Table) error
}

// ScratchDatabase is one of Own.
type ScratchDatabase struct{ Name, Mark string }

// NotScratch refuses to touch a database that is not, or not for certain, one that this program
// made.
func NotScratch(name, found string) *Fault {
	return &Fault{Kind: Refused, Message: "the database " + name + " was not touched: " + found,
		Hint: "only databases that this program created and marked are emptied, filled or dropped; if nobody " +
			"needs it, drop it yourself"}
}

// Variable is a variable of the environment; Gone tells that there must be none.
type Variable struct {
	Name, Value string
	Gone        bool
}

// OpenScratch opens the own databases beside that of a URL.
func OpenScratch(ctx context.Context, drivers []Driver, url string) (Scratch, error) {
	if d := driver(drivers, url); d != nil {
		return d.OpenScratch(ctx, url)
	}
	_, err := Open(ctx, drivers, url)
	return nil, err
}

// Variables are the variables of the environment by which programs find the database of a
// URL: DATABASE_URL and its parts, under the names that drivers of several languages read.
func Variables(drivers []Driver, url string) []Variable {
	if d := driver(drivers, url); d != nil {
		return d.Variables(url)
	}
	return nil
}

// Address is where a database is, part by part. What is empty is not said.
type Address struct{ URL, Host, Port, User, Password, Name string }

// Variables are those that are called the same for all engines.
func (a Address) Variables() []Variable {
	out := []Variable{
		{Name: "DATABASE_URL", Value: a.URL}, {Name: "DB_HOST", Value: a.Host}, {Name: "DB_PORT", Value: a.Port},
		{Name: "DB_USER", Value: a.User}, {Name: "DB_PASSWORD", Value: a.Password}, {Name: "DB_NAME", Value: a.Name},
	}
	for i := range out {
		out[i].Gone = out[i].Value == "" // one of the surroundings would be another database's
	}
	return out
}

// WithoutClientLines takes lines out of a script that only a client understands, and that
// say nothing about the tables. A line that does is an error of the server's.
func WithoutClientLines(script string, prefixes ...string) string {
	var b strings.Builder
	for line := range strings.Lines(script) {
		skip := false
		for _, p := range prefixes {
			skip = skip || strings.HasPrefix(line, p)
		}
		if skip {
			b.WriteString("\n") // so that errors name the right line
			continue
		}
		b.WriteString(line)
	}
	return b.String()
}
