package store

import (
	"context"
	"net/url"
	"strings"

	"evensprout/internal/schema"
)

// OwnPrefix begins the names of all databases that this program makes for itself.
const OwnPrefix = "evensprout_"

// Own are databases that this program makes for itself, and drops: beside the one that a
// URL names, on its server or, of files, in a folder of the user's. One connection, which
// belongs to one goroutine.
type Own interface {
	// URL names one of them.
	URL(name string) string
	// Create makes an empty one.
	Create(ctx context.Context, name string) error
	// Copy makes one that is like another of them, by the engine's own means.
	Copy(ctx context.Context, from, name string) error
	// CopyGiven makes one that is like the database of the URL, without this program's
	// journal.
	CopyGiven(ctx context.Context, name string) error
	// Empty deletes the rows of some tables, and lets counters begin again. Rows elsewhere
	// that refer to them are the caller's care.
	Empty(ctx context.Context, name string, tables []*schema.Table) error
	// Run runs a script of SQL, as the engine's own client would.
	Run(ctx context.Context, name, script string) error
	// Mark writes a word about one of them down, which List tells.
	Mark(ctx context.Context, name, word string) error
	// List are all of them.
	List(ctx context.Context) ([]OwnDatabase, error)
	// Drop removes one, whoever is connected to it.
	Drop(ctx context.Context, name string) error
	// Hold takes a lock of one's name, until Release or Close, or the end of the process;
	// false if another process has it.
	Hold(ctx context.Context, name string) (bool, error)
	Release(ctx context.Context, name string) error
	Close() error
}

// OwnDatabase is one of Own.
type OwnDatabase struct{ Name, Mark string }

// Variable is a variable of the environment.
type Variable struct{ Name, Value string }

// OpenOwn opens the own databases beside that of a URL.
func OpenOwn(ctx context.Context, drivers []Driver, url string) (Own, error) {
	if d := driver(drivers, url); d != nil {
		return d.Own(ctx, url)
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

// WithDatabase is a server's URL with another database.
func WithDatabase(u, name string) string {
	parsed, err := url.Parse(u)
	if err != nil {
		return u
	}
	parsed.Path = "/" + name
	return parsed.String()
}

// Plain are the variables that are called the same for all engines; those without a value
// are left out.
func Plain(url, host, port, user, password, name string) []Variable {
	var out []Variable
	for _, v := range []Variable{{"DATABASE_URL", url}, {"DB_HOST", host}, {"DB_PORT", port}, {"DB_USER", user}, {"DB_PASSWORD", password}, {"DB_NAME", name}} {
		if v.Value != "" {
			out = append(out, v)
		}
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
