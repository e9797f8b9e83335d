package plan

import (
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/schema"
)

// Mode is how the rows of an entity are written.
type Mode string

// The write modes.
const (
	Insert  Mode = "insert"  // new rows
	Keep    Mode = "keep"    // add what is missing, leave what is there
	Upsert  Mode = "upsert"  // add what is missing, change what is there
	Update  Mode = "update"  // change what is there, add nothing
	Replace Mode = "replace" // empty the table and fill it
)

var modes = []string{string(Insert), string(Keep), string(Upsert), string(Update), string(Replace)}

// Commit says which rows are committed together.
type Commit string

// The ways to commit.
const (
	CommitLoad   Commit = "load"   // all: or nothing
	CommitChunk  Commit = "chunk"  // each chunk
	CommitFamily Commit = "family" // each row without a parent, with all that is below it
)

var commits = []string{string(CommitLoad), string(CommitChunk), string(CommitFamily)}

// Policy is what to do about a row that the database refuses.
type Policy string

// The policies.
const (
	Stop   Policy = "stop"
	Skip   Policy = "skip"   // leave the row out, with what hangs on it
	Redraw Policy = "redraw" // grow its values anew
)

var policies = []string{string(Stop), string(Skip), string(Redraw)}

// AllKinds is the name that stands for every kind of violation.
const AllKinds = "all"

// violationKinds are the kinds that policies know.
var violationKinds = []string{
	AllKinds,
	"unique",
	"foreign_key",
	"not_null",
	"check",
	"exclusion",
	"too_long",
	"out_of_range",
	"bad_value",
	"raised",
	"row_count",
	"requirement",
}

// Policies are by kind of violation.
type Policies map[string]Policy

// ParsePolicy reads KIND=POLICY, as the command line says it.
func ParsePolicy(text string, into Policies) error {
	kind, policy, ok := strings.Cut(text, "=")
	switch {
	case !ok:
		return &wordError{text, "KIND=POLICY, such as unique=skip", ""}
	case !slices.Contains(violationKinds, kind):
		return &wordError{kind, "a kind of violation", diag.Nearest(kind, violationKinds)}
	case !slices.Contains(policies, policy):
		return &wordError{policy, "a policy: stop, skip or redraw", diag.Nearest(policy, policies)}
	}
	into[kind] = Policy(policy)
	return nil
}

// PolicyWords are all words that ParsePolicy reads.
func PolicyWords() []string {
	var out []string
	for _, kind := range violationKinds {
		for _, policy := range policies {
			out = append(out, kind+"="+policy)
		}
	}
	return out
}

// CommitWords are all words that ParseCommit reads.
func CommitWords() []string { return slices.Clone(commits) }

// ParseCommit reads the word for a way to commit.
func ParseCommit(word string) (Commit, error) {
	if !slices.Contains(commits, word) {
		return "", &wordError{word, "a way to commit: load, chunk or family", diag.Nearest(word, commits)}
	}
	return Commit(word), nil
}

// wordError is a word that is not one of those that could stand in its place.
type wordError struct{ word, want, near string }

// Error names the word and the words that are known.
func (e *wordError) Error() string {
	text := e.word + " is not " + e.want
	if e.near != "" {
		text += "; did you mean " + e.near + "?"
	}
	return text
}

// Write is one entry of write.
type Write struct {
	Mode    Mode
	Match   []string // fields by which rows that are there are recognised
	Set     []string // fields that upsert and update change; nil for all others
	Stamp   []string // fields changed only together with another
	Cascade bool     // replace also removes rows elsewhere that refer to removed ones
	place
	matchPlace place
}

const writeHint = "write: {mode: upsert, match: [code], set: [label, price]}"

// write reads write: a mode, or a mapping.
func (p *Plan) write(v *node) *Write {
	w := &Write{Mode: Insert, place: v.place, matchPlace: v.place}
	mode := func(n *node) {
		var word string
		if p.text(n, "mode", &word) {
			if !slices.Contains(modes, word) {
				p.add(n.place, "%q is not a write mode", word).Nearest(word, modes)
				return
			}
			w.Mode = Mode(word)
		}
	}
	if v.scalar() {
		mode(v)
		return w
	}
	said := false
	p.each(v, "write", shape{
		"mode":    func(_, n *node) { mode(n); said = true },
		"match":   func(_, n *node) { w.Match, w.matchPlace = p.fieldNames(n, "match"), n.place },
		"set":     func(_, n *node) { w.Set = p.fieldNames(n, "set") },
		"stamp":   func(_, n *node) { w.Stamp = p.fieldNames(n, "stamp") },
		"cascade": func(_, n *node) { w.Cascade = p.yes(n, "cascade") },
	})
	if v.mapping && !said {
		p.add(v.place, "write needs a mode").Advise(writeHint)
	}
	bad := func(n *node, what, modes string) {
		if n != nil {
			p.add(n.place, "%s is only for %s, and the mode is %s", what, modes, w.Mode)
		}
	}
	switch w.Mode {
	case Insert, Replace:
		bad(v.get("match"), "match", "keep, upsert and update")
		fallthrough
	case Keep:
		bad(v.get("set"), "set", "upsert and update")
		bad(v.get("stamp"), "stamp", "upsert and update")
	}

	if w.Mode != Replace {
		bad(v.get("cascade"), "cascade", "replace")
	}
	return w
}

// fieldNames reads a field's name, or a list of them.
func (p *Plan) fieldNames(v *node, of string) []string {
	items := v.items
	if !v.list {
		items = []*node{v}
	}
	names := []string{}
	for _, n := range items {
		var name string
		if p.text(n, of, &name) {
			if slices.Contains(names, name) {
				p.add(n.place, "%s appears twice in %s", name, of)
				continue
			}
			names = append(names, name)
		}
	}
	return names
}

// violationPolicies reads on_violation.
func (p *Plan) violationPolicies(v *node) Policies {
	out := Policies{}
	if !v.mapping {
		p.add(v.place, "on_violation must be a mapping of kinds to policies, got %s", v.what()).
			Advise("such as on_violation: {unique: redraw}; other kinds stop the load")
		return out
	}
	for _, x := range v.pairs {
		var word string
		switch {
		case !slices.Contains(violationKinds, x.key.text):
			p.add(x.key.place, "%q is not a kind of violation", x.key.text).Nearest(x.key.text, violationKinds)
		case !p.text(x.value, "a policy", &word):
		case !slices.Contains(policies, word):
			p.add(x.value.place, "%q is not a policy", word).Nearest(word, policies)
		default:
			out[x.key.text] = Policy(word)
		}
	}
	return out
}

// Resolved is how the rows of an entity are written, with the columns of its table.
type Resolved struct {
	Mode    Mode
	Match   []*schema.Column
	Set     []*schema.Column
	Stamp   []*schema.Column
	Cascade bool
}

// plainSet are the columns that change where the plan does not say which: all that may,
// but those that tell rows apart.
func (e *entity) plainSet(r *Resolved) []*schema.Column {
	var out []*schema.Column
	for _, f := range e.fields {
		col := f.column
		if col == nil || f.decl.inner || col.Generated || col.Identity == schema.Always || f.grow.Hidden ||
			slices.Contains(r.Match, col) || slices.Contains(r.Stamp, col) ||
			slices.Contains(e.table.PrimaryKey, col.Name) {
			continue
		}
		out = append(out, col)
	}
	return out
}

// written finds the columns of an entity's write, and holds them against its table.
func (c *compiler) written(e *entity) Resolved {
	w := e.decl.Write
	if w == nil {
		return Resolved{Mode: Insert}
	}
	r := Resolved{Mode: w.Mode, Cascade: w.Cascade}
	columns := func(names []string, of string) []*schema.Column {
		var out []*schema.Column
		for _, name := range names {
			f := e.find(name)
			switch {
			case f == nil || f.decl.inner:
				c.add(w.place, "%s: %s has no field %s", of, e.decl.Name, name).Nearest(name, e.names())
			case f.column != nil:
				out = append(out, f.column)
			}
		}
		return out
	}
	before := len(c.plan.collector.found)
	r.Match, r.Set, r.Stamp = columns(w.Match, "match"), columns(w.Set, "set"), columns(w.Stamp, "stamp")
	if e.table == nil || len(c.plan.collector.found) > before || w.Mode == Insert || w.Mode == Replace {
		return r
	}
	if w.Match == nil {
		r.Match = c.plainMatch(e)
	}
	if len(r.Match) == 0 {
		return r // told
	}
	names := make([]string, len(r.Match))
	for i, col := range r.Match {
		names[i] = col.Name
	}
	if _, why := e.table.Backing(names); why != "" {
		c.missing(w.matchPlace, "match: %s does not identify one row of %s: %s", strings.Join(names, ", "),
			e.table.Name, why).
			Advise("match needs a unique index over NOT NULL columns: without one, some databases fail and " +
				"others add the rows a second time")
	}

	for _, col := range r.Match {
		if slices.Contains(r.Set, col) || slices.Contains(r.Stamp, col) {
			c.add(w.place, "%s is in match, so it cannot be set", col.Name).Advise("remove it from set")
		}
	}
	if w.Set == nil && w.Mode != Keep {
		r.Set = e.plainSet(&r)
	}
	for _, col := range r.Set {
		if col.Identity == schema.Always {
			c.missing(w.place, "the database always numbers %s, so it cannot be set", col.Name)
		}
	}
	if w.Mode == Update && len(r.Set) == 0 {
		c.add(w.place, "%s has nothing to update: all its fields are in match", e.decl.Name).Advise(writeHint)
	}
	return r
}

// keyHint says by which key of its table the rows of an entity can be recognised.
func (e *entity) keyHint() string {
	for _, key := range e.table.Keys() {
		if _, why := e.table.Backing(key.Columns); why == "" {
			return fmt.Sprintf("match: [%s], with a field for each", strings.Join(key.Columns, ", "))
		}
	}
	return "use mode: insert, which adds rows; without a unique key over NOT NULL columns a row cannot be identified"
}

// fileKey is the columns of the key of the file that rows come from; nil if there is none.
func (e *entity) fileKey() []*schema.Column {
	r := e.decl.RowsFrom
	if r == nil || len(r.Key) == 0 {
		return nil
	}
	var out []*schema.Column
	for _, name := range r.Key {
		if f := e.find(name); f != nil && f.column != nil {
			out = append(out, f.column)
		}
	}
	if len(out) < len(r.Key) {
		return nil
	}
	return out
}

// severalKeys tells that rows could be recognised by several keys.
func (c *compiler) severalKeys(e *entity, found [][]*schema.Column) {
	var keys []string
	for _, columns := range found {
		var names []string
		for _, col := range columns {
			names = append(names, col.Name)
		}
		keys = append(keys, "["+strings.Join(names, ", ")+"]")
	}
	c.add(e.decl.Write.place, "%s: rows of %s can be identified by several keys: %s", e.decl.Write.Mode,
		e.table.Name, strings.Join(keys, " and ")).
		Advise("match: %s", keys[0])
}

// plainMatch is the match that a plan leaves unsaid: the key of its file, the only
// unique key whose fields it says, or the primary key.
func (c *compiler) plainMatch(e *entity) []*schema.Column {
	if key := e.fileKey(); key != nil {
		return key
	}
	var found [][]*schema.Column
	for _, key := range e.table.Keys() {
		if _, why := e.table.Backing(key.Columns); why == "" {
			if columns := e.planned(key.Columns); columns != nil {
				found = append(found, columns)
			}
		}
	}

	switch {
	case len(found) == 1:
		return found[0]
	case len(found) > 1:
		c.severalKeys(e, found)
		return nil
	}

	var out []*schema.Column
	for _, name := range e.table.PrimaryKey {
		for _, f := range e.fields {
			if f.column != nil && f.column.Name == name {
				out = append(out, f.column)
			}
		}
	}

	if len(out) == 0 || len(out) < len(e.table.PrimaryKey) {
		c.missing(e.decl.Write.place, "%s needs a unique key of %s to identify rows, and the plan has no fields "+
			"for one", e.decl.Write.Mode, e.table.Name).
			Advise("%s", e.keyHint())
		return nil
	}
	return out
}

// planned returns the columns with some names; nil if the plan has no field for one of them.
func (e *entity) planned(names []string) []*schema.Column {
	var out []*schema.Column
	for _, name := range names {
		i := slices.IndexFunc(e.fields, func(f *field) bool {
			return f.column != nil && strings.EqualFold(f.column.Name, name) && !f.grow.Hidden
		})
		if i < 0 {
			return nil
		}
		out = append(out, e.fields[i].column)
	}
	return out
}
