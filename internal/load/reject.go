package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"evensprout/internal/journal"

	"github.com/dustin/go-humanize"
	"github.com/zeebo/xxh3"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// Rejection is a row that was left out, with its values as they would have been
// written.
type Rejection struct {
	Row     grow.Row
	Refusal *journal.Refusal
	Fields  []string // of the plan; a draw is not among them
	Values  []value.Value
}

// Changed is a cell that an update or upsert changed.
type Changed struct {
	Entity   string
	Row      string // its label
	Line     int    // in the entity's file; 0 if it has none
	Match    []value.Value
	Field    string
	From, To value.Value
}

// TooMany is the refusal at which more rows were rejected than allowed.
type TooMany struct {
	*journal.Refusal
	Limit int64
}

func (e *TooMany) Error() string {
	return fmt.Sprintf("more than %d rows would be rejected; the last one: %s", e.Limit, e.Refusal.Error())
}
func (e *TooMany) Unwrap() error { return e.Refusal }

// decide applies the policy to a refused row. It reports whether the chunk must be
// written again; the error stops the load.
func (w *Writer) decide(t *Target, row grow.Row, v *store.Violation) (again bool, err error) {
	switch w.Session.Policy(t, v.Kind) {
	case plan.Skip:
		return false, w.reject(t, row, v)
	case plan.Redraw:
		return true, w.redraw(t, row, v)
	}
	return false, w.Session.RefusalOf(t, row, v)
}

// MaxTold bounds the rejections that a result tells one by one.
const MaxTold = 20

// reject leaves a row out.
func (w *Writer) reject(t *Target, row grow.Row, v *store.Violation) error {
	r := w.Session.RefusalOf(t, row, v)
	if r.Constraint == journal.Consequence {
		r.Hint = ""
	}
	w.Session.mu.Lock()
	w.Session.rejected++
	n := w.Session.rejected
	w.Session.mu.Unlock()
	if w.Session.Options.MaxRejects > 0 && n > w.Session.Options.MaxRejects {
		return &TooMany{r, w.Session.Options.MaxRejects}
	}
	w.state.rejections = append(w.state.rejections, w.rejection(t, row, r))
	w.state.rejectedOf[t]++
	w.touch(t.Grow, row)
	w.Session.Record.Reject(t.Grow, row)
	w.log.Rejected = append(
		w.log.Rejected,
		journal.RejectedRow{Entity: t.Plan.Name, Given: row.Side, Row: row.N, Refusal: r},
	)
	return nil
}

// rejection is a row that is left out, as it would have been written.
func (w *Writer) rejection(t *Target, row grow.Row, r *journal.Refusal) *Rejection {
	var one grow.Batch
	w.Grower().Grow(t.Grow, row, 1, &one)
	w.translate(t, &one)
	x := &Rejection{Row: row, Refusal: r}
	for i, f := range t.Grow.Fields {
		if !f.Inner && (t.Columns[i] != nil && slices.Contains(t.Writes.Columns, t.Columns[i])) {
			x.Fields, x.Values = append(x.Fields, f.Name), append(x.Values, one.Row(0)[i])
		}
	}
	return x
}

// NothingToRedraw tells of values that no other draw can change.
const NothingToRedraw = "none of these values can be redrawn: they are written in the plan, counted, or follow " +
	"from other rows"

// Redrawable are the fields of a constraint that can be drawn again.
func (t *Target) Redrawable(row grow.Row, v *store.Violation) []*grow.Field {
	var fields []*grow.Field
	for _, name := range v.Columns {
		for i, c := range t.Columns {
			if c == nil || c.Name != name {
				continue
			}
			if row.Side {
				if _, given := t.Grow.Side[row.N].Given[t.Grow.Fields[i]]; given {
					continue // written by hand
				}
			}
			fields = append(fields, t.Grow.Fields[i].Redrawn()...)
		}
	}
	return fields
}

// redraw takes the next attempt of the fields of a constraint.
func (w *Writer) redraw(t *Target, row grow.Row, v *store.Violation) error {
	fields := t.Redrawable(row, v)
	stop := func(why string) error {
		r := w.Session.RefusalOf(t, row, v)
		r.Hint = why
		return r
	}
	if len(fields) == 0 {
		return stop(NothingToRedraw + "; use stop or skip, or another source")
	}
	most := uint64(MaxAttempts)
	if n, _, ok := fields[0].Attempts(); ok && len(fields) == 1 && t.known != nil {
		most = max(most, min(n, MaxWalk))
	}

	// What is known to be taken need not be tried at the database.
	for taken := true; taken; {
		for _, f := range fields {
			if w.Session.Record.Redraw(f, row) > most {
				return stop(w.tooFew(t, fields[0], v))
			}
		}
		var err error
		if taken, err = w.taken(t, row, v); err != nil {
			return err
		}
	}

	for _, f := range fields {
		w.log.Redrawn = append(
			w.log.Redrawn,
			journal.DrawnRow{
				Entity:  t.Plan.Name,
				Field:   f.Name,
				Given:   row.Side,
				Row:     row.N,
				Attempt: w.Session.Record.Attempt(f, row),
			},
		)
	}

	w.redrawn++
	w.stuck = w.Session.RefusalOf(t, row, v)
	w.touch(t.Grow, row)
	return nil
}

// MaxWalk bounds how many values are tried for a row where those that are taken are known.
const MaxWalk = 1_000_000

// taken reports whether the values that a row has now, in the columns of a constraint, are
// those of a row that was there before, or of another one that was drawn again; if not, they
// are its own from now on.
func (w *Writer) taken(t *Target, row grow.Row, v *store.Violation) (bool, error) {
	var one grow.Batch
	w.Grower().Grow(t.Grow, row, 1, &one)
	if err := w.Grower().Err(); err != nil {
		return false, err
	}
	values := one.Row(0)
	if t.known != nil && t.known.Collision(values) != nil {
		return true, nil
	}
	places := t.places(v)
	h, ok := HashOf(values, places)
	if !ok || places == nil {
		return false, nil
	}
	key := drawnKey{strings.Join(v.Columns, ","), h}
	w.Session.mu.Lock()
	defer w.Session.mu.Unlock()
	if t.drawn == nil {
		t.drawn = map[drawnKey]grow.Row{}
	}
	if other, held := t.drawn[key]; held && other != row {
		return true, nil
	}
	t.drawn[key] = row
	return false, nil
}

// drawnKey is the values of a row in the columns of a constraint.
type drawnKey struct {
	columns string
	values  xxh3.Uint128
}

// tooFew says that a row finds no free value, and how many there are.
func (w *Writer) tooFew(t *Target, f *grow.Field, v *store.Violation) string {
	_, values, ok := f.Attempts()
	if !ok || t.known == nil {
		return fmt.Sprintf(
			"it was redrawn %d times, and every value was refused: there are too few different values; give %s "+
				"more, or plan fewer rows",
			MaxAttempts,
			f.Name,
		)
	}

	// All values have been tried: those that are free are those that rows of the plan have.
	free, places := map[xxh3.Uint128]bool{}, t.places(v)
	err := w.Session.eachRow(context.Background(), t, func(_ grow.Row, values []value.Value) error {
		if h, ok := HashOf(values, places); ok && t.known.Collision(values) == nil {
			free[h] = true
		}
		return nil
	})
	if err != nil {
		return err.Error()
	}
	return fmt.Sprintf(
		"%s has %s different values, of which %s are free, for %s planned rows: give it more values, or plan "+
			"fewer rows",
		f.Name,
		humanize.Comma(int64(values)),
		humanize.Comma(int64(len(free))),
		humanize.Comma(int64(t.Grow.Total())),
	)
}

// places are those of a constraint's columns in the entity's fields; nil if the plan does
// not have them all.
func (t *Target) places(v *store.Violation) []int {
	var places []int
	for _, name := range v.Columns {
		i := slices.IndexFunc(t.Columns, func(c *schema.Column) bool { return c != nil && c.Name == name })
		if i < 0 {
			return nil
		}
		places = append(places, i)
	}
	return places
}

// duplicateOfEarlier watches for a row with the match values of one in an earlier chunk.
func (w *Writer) duplicateOfEarlier(t *Target, row grow.Row, values []value.Value) *store.Violation {
	v := &store.Violation{
		Kind:       store.Unique,
		Constraint: "match",
		Message:    "an earlier row of this load has the same values",
	}
	var places []int
	for _, c := range t.Writes.Match {
		at := slices.Index(t.Columns, c)
		places = append(places, at)
		v.Columns, v.Values = append(v.Columns, c.Name), append(v.Values, values[at])
	}
	key, ok := HashOf(values, places)
	if !ok {
		return nil // NULL, which the column refuses
	}
	w.Session.mu.Lock()
	defer w.Session.mu.Unlock()
	if other, ok := t.seen[key]; ok && other != row { // the same one comes again when its chunk does
		v.HasTwin, v.TwinLabel = true, t.Grow.Label(other)
		return v
	}
	t.seen[key] = row
	return nil
}

// handOut gives away rejections and changes that can no longer be taken back.
func (w *Writer) handOut() error {
	for _, x := range w.state.rejections {
		w.Session.noteReason(x.Refusal)
		if len(w.Session.rejects) < MaxTold {
			w.Session.rejects = append(w.Session.rejects, x.Refusal)
		}
		if w.Session.Options.Rejected != nil {
			if err := w.Session.Options.Rejected(*x); err != nil {
				return err
			}
		}
	}

	for t, n := range w.state.rejectedOf {
		t.Out.Rejected += n
	}
	for _, x := range w.state.missing {
		if len(w.Session.unmatched) < MaxTold {
			w.Session.unmatched = append(w.Session.unmatched, x.Refusal)
		}
		if w.Session.Options.Rejected != nil {
			if err := w.Session.Options.Rejected(*x); err != nil {
				return err
			}
		}
	}

	for _, c := range w.state.changes {
		if err := w.Session.Options.Changed(c); err != nil {
			return err
		}
	}
	return nil
}

// noteReason keeps the first reason why a row of each entity was refused. A reason of its own comes
// before one that follows from another row's refusal.
func (l *Session) noteReason(r *journal.Refusal) {
	for _, t := range l.List {
		if t.Plan.Name == r.Entity && (t.Out.Refused == nil ||
			t.Out.Refused.Constraint == journal.Consequence && r.Constraint != journal.Consequence) {
			t.Out.Refused = r
		}
	}
}
