package prove

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/diag"
	"evensprout/internal/draft"
	"evensprout/internal/journal"
	"evensprout/internal/lexicon"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// ladder changes a draft step by step until the database accepts its rows. It tries the change that costs least first.
type ladder struct {
	found *draft.Found
	step  map[*schema.Table]int // the next change to try
	times map[*schema.Table]int // how often that was tried
}

// newLadder makes a ladder that has tried nothing.
func newLadder(found *draft.Found) *ladder {
	*found = draft.Found{
		Avoid: map[*schema.Column]string{}, Without: map[*schema.Table]string{},
		Accepted: map[*schema.Column]draft.Accepted{}, Picked: map[*schema.Column][]draft.Picked{},
		Most: map[*schema.Table]uint64{},
	}
	return &ladder{found, map[*schema.Table]int{}, map[*schema.Table]int{}}
}

// refused is a table whose rows the database refuses, at least some of them.
type refused struct {
	*plan.Target
	refusal  *journal.Refusal
	compared compared
	trial    *trial
	summary  string // of the refusal
}

// What a change is due to.
const (
	refuses = "the database refuses its rows: "
	others  = "the database refuses other values: "
)

// mostNarrowed bounds how often one change of a table is tried.
const mostNarrowed = 4

// mend changes the draft of a table. The last change is to leave out the table.
func (l *ladder) mend(r *refused) []Mended {
	steps := []struct {
		change func(*refused) []Mended
		again  bool // what it has narrowed may be narrowed more: one condition may hide another
	}{
		{l.limit, true}, {l.narrow, true}, {l.narrowParents, true}, {l.avoidNamed, true}, {l.box, true},
		{l.narrowLoosely, true}, {l.shorten, false}, {l.avoidWatched, false}, {l.avoidOptional, false},
		{l.oneRow, false}, {l.leaveOut, false},
	}
	for l.step[r.Table] < len(steps) {
		s := steps[l.step[r.Table]]
		out := s.change(r)
		if l.times[r.Table]++; out == nil || !s.again || l.times[r.Table] == mostNarrowed {
			l.step[r.Table]++
			l.times[r.Table] = 0
		}
		if out != nil {
			return out
		}
	}
	return nil
}

// limit plans fewer rows, where the database takes no more than some.
func (l *ladder) limit(r *refused) []Mended {
	m := Mended{Table: r.Table.Name, Action: fewer, Reason: "the database refuses more: " + r.summary}
	seen := r.compared.accepted + r.compared.refused
	if seen == 0 && r.refusal.Kind == store.Unique && r.Grow.Total() > 1 {
		l.found.Most[r.Table] = max(r.Grow.Total()/10, 1)
		return []Mended{m}
	}
	if r.compared.accepted == 0 ||
		r.refusal.Kind != store.Unique && (!r.compared.last || r.compared.refused < fewRows) {
		return nil
	}
	l.found.Most[r.Table] = uint64(r.compared.accepted)
	return []Mended{m}
}

// narrow keeps a column to the values of rows that the database accepts.
func (l *ladder) narrow(r *refused) []Mended { return l.narrowBy(r, r.compared.features, true) }

// narrowLoosely does the same with columns whose values hardly repeat.
func (l *ladder) narrowLoosely(r *refused) []Mended { return l.narrowBy(r, r.compared.features, false) }

// narrowParents keeps a reference to rows like those that the accepted rows refer to.
func (l *ladder) narrowParents(r *refused) []Mended {
	return l.narrowBy(r, r.trial.compare(r, r.trial.parents(r.Target, r.names)).features, true)
}

// narrowBy uses the feature that tells accepted rows from refused ones best.
func (l *ladder) narrowBy(r *refused, features []*feature, strict bool) []Mended {
	n := separate(features, strict)
	if n == nil {
		return nil
	}
	m := Mended{Table: r.Table.Name, Column: n.column.Name, Action: narrower, Reason: others + r.summary}
	if n.via != nil {
		m.Column = n.via.Name
		l.found.Picked[n.via] = append(l.found.Picked[n.via], draft.Picked{Target: n.column.Name, Values: n.values})
		return []Mended{m}
	}
	l.accept(n.column, n.condition(), r.summary)
	return []Mended{m}
}

// accept adds a condition on a column.
func (l *ladder) accept(c *schema.Column, condition, why string) {
	if former, ok := l.found.Accepted[c]; ok {
		condition = "(" + former.Condition + ") AND " + condition
	}
	l.found.Accepted[c] = draft.Accepted{Condition: condition, Why: "the database refuses others: " + why}
}

// avoidNamed leaves out a column that the refusal is about.
func (l *ladder) avoidNamed(r *refused) []Mended {
	for _, c := range draft.Optional(r.Table) {
		if l.found.Avoid[c] == "" && r.names(c) && !slices.Contains(r.Table.Watched, c.Name) {
			return l.avoid(r, []*schema.Column{c})
		}
	}
	return nil
}

// avoidWatched leaves out the columns that triggers read.
func (l *ladder) avoidWatched(r *refused) []Mended {
	return l.avoid(r, slices.DeleteFunc(draft.Optional(r.Table), func(c *schema.Column) bool {
		return !slices.Contains(r.Table.Watched, c.Name)
	}))
}

// avoidOptional leaves out all columns that rows can be without.
func (l *ladder) avoidOptional(r *refused) []Mended {
	if r.refusal.Kind == store.NotNull {
		return nil
	}
	return l.avoid(r, draft.Optional(r.Table))
}

// avoid leaves out columns.
func (l *ladder) avoid(r *refused, columns []*schema.Column) []Mended {
	var out []Mended
	for _, c := range columns {
		if l.found.Avoid[c] == "" {
			l.found.Avoid[c] = refuses + r.summary
			out = append(out, Mended{Table: r.Table.Name, Column: c.Name, Action: LeftOut, Reason: l.found.Avoid[c]})
		}
	}
	return out
}

// shorten makes texts shorter and numbers smaller that the refusal mentions, or all if it mentions none.
func (l *ladder) shorten(r *refused) []Mended {
	var out []Mended
	named := slices.ContainsFunc(r.compared.features, func(f *feature) bool { return f.named })
	for _, f := range r.compared.features {
		c := f.column
		if f.named != named || r.compared.accepted > 0 {
			continue
		}
		quoted := quote(c.Name)
		switch {
		case r.refusal.Kind == store.TooLong && c.Kind == schema.Text:
			l.accept(c, fmt.Sprintf("length(%s) <= %d", quoted, shortText), r.summary)
		case r.refusal.Kind != store.TooLong && (c.Kind == schema.Integer || c.Kind == schema.Decimal):
			l.accept(c, quoted+" BETWEEN 1 AND 9", r.summary)
		default:
			continue
		}
		out = append(out, Mended{Table: r.Table.Name, Column: c.Name, Action: narrower, Reason: others + r.summary})
	}
	return out
}

// shortText is how many characters a text has that fits nearly everywhere.
const shortText = 8

// box keeps several columns to ranges in which the database refuses no row.
func (l *ladder) box(r *refused) []Mended {
	var out []Mended
	for _, n := range box(r.compared.features) {
		l.accept(n.column, n.condition(), r.summary)
		out = append(
			out,
			Mended{Table: r.Table.Name, Column: n.column.Name, Action: narrower, Reason: others + r.summary},
		)
	}
	return out
}

// oneRow keeps the columns that a refusal or a trigger mentions, else all, to the values of one row that the database
// accepts: a condition over several columns holds for it.
func (l *ladder) oneRow(r *refused) []Mended {
	if r.compared.accepted == 0 {
		return nil
	}
	var columns []*feature
	for _, only := range []bool{true, false} {
		for _, f := range r.compared.features {
			if len(columns) == 0 || columns[0].named == only {
				if f.named == only && l.found.Avoid[f.column] == "" {
					columns = append(columns, f)
				}
			}
		}
	}
	var out []Mended
	for _, f := range columns {
		v := f.accepted[0]
		if v.IsNull() {
			out = append(out, l.avoid(r, []*schema.Column{f.column})...)
			continue
		}
		l.accept(f.column, (&narrowed{feature: f, values: []value.Value{v}}).condition(), r.summary)
		out = append(
			out,
			Mended{Table: r.Table.Name, Column: f.column.Name, Action: narrower, Reason: others + r.summary},
		)
	}
	return out
}

// leaveOut leaves out the table.
func (l *ladder) leaveOut(r *refused) []Mended {
	l.found.Without[r.Table] = refuses + r.summary
	return []Mended{{Table: r.Table.Name, Action: LeftOut, Reason: l.found.Without[r.Table]}}
}

// names reports whether the refusal, its message or a trigger mentions a column.
func (r *refused) names(c *schema.Column) bool {
	if slices.ContainsFunc(
		slices.Concat(r.refusal.Columns, r.refusal.Fields, r.Table.Watched),
		func(name string) bool {
			return strings.EqualFold(name, c.Name)
		},
	) {
		return true
	}
	plain := strings.Join(lexicon.Words(strings.ToLower(c.Name)), " ")
	message := " " + strings.Join(lexicon.Words(strings.ToLower(r.refusal.Message)), " ") + " "
	return strings.Contains(message, " "+plain+" ")
}

var entityTable = regexp.MustCompile(`^ {4}table: (.*)$`)

// misread leaves out what a draft says wrongly: the columns or tables in which a plan has problems.
func (l *ladder) misread(db *schema.Database, text string, problems diag.Problems) []Mended {
	var out []Mended
	lines := strings.Split(text, "\n")
	for _, p := range problems {
		for at := min(p.Line, len(lines)) - 1; at >= 0; at-- {
			m := entityTable.FindStringSubmatch(lines[at])
			if m == nil {
				continue
			}
			t := db.Table(strings.Trim(m[1], `"'`))
			if t != nil && l.found.Without[t] == "" {
				l.found.Without[t] = p.Message
				out = append(out, Mended{Table: t.Name, Action: LeftOut, Reason: p.Message})
			}
			break
		}
	}
	return out
}
